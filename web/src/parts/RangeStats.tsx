import type { SeriesWindows } from "../api/client";
import { moment, number } from "../format";

/** The whole range as one window. */
export function RangeStats({ series }: { series: SeriesWindows }) {
  const { values: w, times } = series.whole;
  if (!w.count) return null;
  const bearing = series.kind === "bearing";
  const stats: [string, string, string?][] = [
    [bearing ? "vector mean" : "mean", number(w.mean)],
    ["lowest", number(w.min), bearing ? undefined : moment(times.min_at)],
    ["highest", number(w.max), bearing ? undefined : moment(times.max_at)],
    ["standard deviation", number(w.sd)],
    ["first", number(w.first)],
    ["last", number(w.last)],
    ["readings", (w.count ?? 0).toLocaleString("en-GB")],
    ["coverage", `${number((series.coverage ?? 0) * 100, 3)} %`],
  ];
  return (
    <dl className="mt-2 flex flex-wrap gap-x-8 gap-y-2 border-t border-rule pt-2">
      {stats.map(([name, value, note]) => (
        <div key={name}>
          <dt className="text-sm text-soft">{name}</dt>
          <dd>
            {value}
            {note && <span className="block text-xs text-soft">{note}</span>}
          </dd>
        </div>
      ))}
    </dl>
  );
}

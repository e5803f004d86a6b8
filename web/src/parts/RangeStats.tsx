import type { SeriesWindows } from "../api/client";
import { number } from "../format";
import { viewOf } from "../kinds";

/** The whole range as one window. */
export function RangeStats({ series }: { series: SeriesWindows }) {
  const count = series.whole.values.count;
  if (!count) return null;
  const figures: [string, string, string?][] = [
    ...viewOf(series.kind).figures(series),
    ["readings", count.toLocaleString("en-GB")],
    ["coverage", `${number((series.coverage ?? 0) * 100, 3)} %`],
  ];
  return (
    <dl className="mt-2 flex flex-wrap gap-x-8 gap-y-2 border-t border-rule pt-2">
      {figures.map(([name, value, note]) => (
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

import { useQueries } from "@tanstack/react-query";
import { ask, type Series } from "../api/client";
import { number } from "../format";
import { hueOf } from "../lanes/colours";
import { marksOf } from "../parts/marks";
import { Failed } from "../parts/Said";
import { convert, useUnits } from "../units";

const wide = 640;
const high = 170;
const left = 46;

const sorts = [
  { name: "weekdays", days: "mon-fri" },
  { name: "weekends", days: "sat,sun" },
];

/** What a series is like hour by hour, on weekdays and at weekends. */
export function MeanDay({ series, zone }: { series: Series; zone: string }) {
  const to = useUnits().of(series.unit);
  const stat = series.kind === "counter" ? "rate/h" : "mean";
  const answers = useQueries({
    queries: sorts.map((s) => ({
      queryKey: ["mean-day", series.path, s.days, zone],
      queryFn: () =>
        ask("windows", {
          select: series.path,
          last: "4w",
          width: "1h",
          fold: "day",
          by_clock: "true",
          zone,
          days: s.days,
          stats: series.kind === "counter" ? "rate/h" : "mean,min,max",
        }),
      staleTime: 300_000,
    })),
  });
  const failed = answers.find((a) => a.error)?.error;
  if (failed) return <Failed error={failed} />;
  const scaled = (v: number | null | undefined) =>
    v == null ? null : stat === "mean" ? convert(v, to) : v * to.scale; // a rate has no offset
  const lines = answers.map((a) => {
    const one = a.data?.series[0];
    const column = (s: string) => (one?.values[s] ?? []).map(scaled);
    return { mid: column(stat), low: column("min"), high: column("max"), places: a.data?.places ?? [] };
  });
  const values = lines.flatMap((l) => [...l.mid, ...l.low, ...l.high]).filter((v): v is number => v !== null);
  if (values.length === 0)
    return (
      <p className="text-sm text-soft">
        {answers.some((a) => a.isPending) ? "Loading …" : "It had no values in that time."}
      </p>
    );
  const low = Math.min(...values);
  const top = Math.max(...values);
  const x = (i: number) => left + ((i + 0.5) / 24) * (wide - left - 8);
  const y = (v: number) => 8 + ((top - v) / (top - low || 1)) * (high - 34);
  const hour = (place: string | undefined) => Number(place?.slice(0, 2) ?? NaN);
  return (
    <>
      <svg
        width="100%"
        viewBox={`0 0 ${wide} ${high}`}
        role="img"
        aria-label="Mean day, hour by hour; the table below has the figures"
        data-mean-day
      >
        {marksOf(low, top, 5).map((m) => (
          <g key={m}>
            <line x1={left} x2={wide - 8} y1={y(m)} y2={y(m)} stroke="var(--rule)" />
            <text x={left - 4} y={y(m) + 4} fontSize="11" textAnchor="end" fill="var(--soft)">
              {number(m)}
            </text>
          </g>
        ))}
        {[0, 6, 12, 18].map((h) => (
          <text key={h} x={x(h) - 8} y={high - 8} fontSize="11" fill="var(--soft)">
            {String(h).padStart(2, "0")}:00
          </text>
        ))}
        {lines.map((l, k) => {
          const at = (values: (number | null)[]) =>
            values.flatMap((v, i) =>
              v === null ? [] : [`${x(hour(l.places[i])).toFixed(1)} ${y(v).toFixed(1)}`],
            );
          const band = [...at(l.high), ...at(l.low).reverse()];
          return (
            <g key={k}>
              {band.length > 2 && <path d={`M${band.join("L")}Z`} fill={hueOf(k)} opacity="0.12" />}
              {at(l.mid).length > 1 && (
                <path
                  d={`M${at(l.mid).join("L")}`}
                  fill="none"
                  stroke={hueOf(k)}
                  strokeWidth="1.8"
                  strokeDasharray={k === 1 ? "6 3" : undefined}
                />
              )}
            </g>
          );
        })}
      </svg>
      <p className="flex gap-4 text-sm text-soft">
        {sorts.map((s, k) => (
          <span key={s.name}>
            <svg width="22" height="8" aria-hidden className="mr-1 inline">
              <line
                x1="0"
                x2="22"
                y1="4"
                y2="4"
                stroke={hueOf(k)}
                strokeWidth="2"
                strokeDasharray={k === 1 ? "6 3" : undefined}
              />
            </svg>
            {s.name}
          </span>
        ))}
        <span>
          {stat === "mean" ? `${to.written}; band from lowest to highest` : `${to.written} an hour`}; by the
          clocks of {zone}
        </span>
      </p>
      <details className="text-sm">
        <summary className="cursor-pointer text-soft">In figures</summary>
        <table>
          <thead>
            <tr className="text-left text-soft">
              <th className="pr-4 font-normal">hour</th>
              {sorts.map((s) => (
                <th key={s.name} className="pr-4 font-normal">
                  {s.name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {(lines[0]?.places ?? []).map((p, i) => (
              <tr key={p}>
                <td className="pr-4">{p}</td>
                {lines.map((l, k) => (
                  <td key={k} className="pr-4 text-right">
                    {number(l.mid[l.places.indexOf(p)] ?? l.mid[i])}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </details>
    </>
  );
}

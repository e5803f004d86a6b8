import { useQuery } from "@tanstack/react-query";
import { ask, type Series } from "../api/client";
import { number, percent } from "../format";
import { marksOf } from "../parts/marks";
import { Failed } from "../parts/Said";
import { convert, useUnits } from "../units";
import { binsOf } from "./bins";

const wide = 320;
const high = 150;

interface Bin {
  low: number;
  high: number;
  /** Seconds that it held at least, and at most: summaries do not tell exactly. */
  least: number;
  most: number;
}

/** For how long a series had which values. */
export function Distribution({ series }: { series: Series }) {
  const to = useUnits().of(series.unit);
  const found = useQuery({
    queryKey: ["distribution", series.path],
    queryFn: () => distribution(series.path),
    staleTime: 120_000,
  });
  if (found.error) return <Failed error={found.error} />;
  const bins = found.data ?? [];
  if (bins.length === 0)
    return (
      <p className="text-sm text-soft">{found.isPending ? "Loading …" : "It had no values in that time."}</p>
    );
  const most = Math.max(...bins.map((b) => b.most)) || 1;
  const all = bins.reduce((sum, b) => sum + (b.least + b.most) / 2, 0) || 1;
  const [low, end] = [bins[0]?.low ?? 0, bins[bins.length - 1]?.high ?? 1];
  const x = (v: number) => ((v - low) / (end - low)) * wide;
  const y = (s: number) => high - 22 - (s / most) * (high - 30);
  const modal = bins.reduce((a, b) => (b.least + b.most > a.least + a.most ? b : a));
  const unsure = bins.some((b) => b.most - b.least > 0.02 * all);
  return (
    <>
      <svg
        width="100%"
        viewBox={`0 0 ${wide} ${high}`}
        role="img"
        aria-label={`Most of the time from ${number(convert(modal.low, to))} to ${number(convert(modal.high, to))} ${to.written}`}
        data-distribution
      >
        {bins.map((b) => (
          <g key={b.low}>
            <rect
              x={x(b.low) + 0.5}
              width={Math.max(0.5, x(b.high) - x(b.low) - 1)}
              y={y(b.most)}
              height={y(0) - y(b.most)}
              fill="var(--water)"
              opacity="0.3"
            />
            <rect
              x={x(b.low) + 0.5}
              width={Math.max(0.5, x(b.high) - x(b.low) - 1)}
              y={y(b.least)}
              height={y(0) - y(b.least)}
              fill="var(--water)"
            >
              <title>{`${number(convert(b.low, to))} to ${number(convert(b.high, to))} ${to.written}: ${percent((b.least + b.most) / 2 / all)} of the time`}</title>
            </rect>
          </g>
        ))}
        <line x1="0" x2={wide} y1={y(0)} y2={y(0)} stroke="var(--soft)" />
        {marksOf(low, end, 5).map((m) => (
          <text
            key={m}
            x={Math.min(wide - 12, Math.max(10, x(m)))}
            y={high - 6}
            fontSize="11"
            textAnchor="middle"
            fill="var(--soft)"
          >
            {number(convert(m, to))}
          </text>
        ))}
      </svg>
      <p className="text-sm text-soft">
        {to.written}, by time.{unsure && " Pale: at most, as only summaries are kept here."}
      </p>
    </>
  );
}

async function distribution(path: string): Promise<Bin[]> {
  const range = { select: path, last: "7d", width: "whole" };
  const ends = (await ask("windows", { ...range, stats: "min,max" })).series[0]?.whole.values;
  const bins = binsOf(ends?.min ?? null, ends?.max ?? null);
  if (bins.length === 0) return [];
  // The widest end is open, so the highest value needs a little more room than it has.
  const stats = bins.map(([a, b]) => `between:${a}..${b}`);
  const one = (await ask("windows", { ...range, stats: stats.join(",") })).series[0];
  return bins.map(([low, high], i) => {
    const stat = stats[i] ?? "";
    const exact = one?.values[stat]?.[0];
    const bounds = one?.bounds?.[stat];
    return { low, high, least: exact ?? bounds?.least[0] ?? 0, most: exact ?? bounds?.most[0] ?? 0 };
  });
}

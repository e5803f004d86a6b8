/** What a staff gauge shows, in the unit that is shown. */
export interface Level {
  present: number | null;
  /** Of the day. */
  low: number | null;
  high: number | null;
  inner?: [number | null, number | null];
  outer?: [number | null, number | null];
}

/** Where the ruler begins and ends: around the normal range and what the day saw. */
export function rulerOf(level: Level): [number, number] {
  const ends = [level.present, level.low, level.high, ...(level.inner ?? []), ...(level.outer ?? [])].filter(
    (v): v is number => v !== null && Number.isFinite(v),
  );
  if (ends.length === 0) return [0, 1];
  const low = Math.min(...ends);
  const high = Math.max(...ends);
  const air = (high - low) * 0.06 || Math.abs(high) * 0.05 || 1;
  return [low - air, high + air];
}

/** The marks of a ruler at round values, about so many of them. */
export function marksOf(low: number, high: number, most: number): number[] {
  const rough = (high - low) / Math.max(1, most);
  const size = 10 ** Math.floor(Math.log10(rough));
  const step = [1, 2, 5, 10].map((n) => n * size).find((s) => s >= rough) ?? 10 * size;
  const out: number[] = [];
  for (let k = Math.ceil(low / step); k * step <= high && out.length < 100; k++)
    out.push(Number((k * step).toPrecision(12)));
  return out;
}

export type Standing = "normal" | "unusual" | "critical";

/** Where a value stands in a normal range. */
export function standingOf(value: number | null, level: Pick<Level, "inner" | "outer">): Standing {
  const outside = (b?: [number | null, number | null]) =>
    value !== null && b !== undefined && ((b[0] !== null && value < b[0]) || (b[1] !== null && value > b[1]));
  if (outside(level.outer)) return "critical";
  return outside(level.inner) ? "unusual" : "normal";
}

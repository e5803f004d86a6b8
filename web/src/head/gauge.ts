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

export type Standing = "normal" | "unusual" | "critical";

/** Where a value stands in a normal range. */
export function standingOf(value: number | null, level: Pick<Level, "inner" | "outer">): Standing {
  const outside = (b?: [number | null, number | null]) =>
    value !== null && b !== undefined && ((b[0] !== null && value < b[0]) || (b[1] !== null && value > b[1]));
  if (outside(level.outer)) return "critical";
  return outside(level.inner) ? "unusual" : "normal";
}

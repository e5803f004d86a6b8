import type { SeriesWindows, Windows } from "../api/client";

/** One series over the windows of a range, ready to be drawn. */
export interface Row {
  key: string;
  name: string;
  kind: string;
  unit: string;
  states: Record<string, number>;
  /** So much earlier than the page's range; empty: not. */
  shift: string;
  starts: number[]; // ms since 1970
  ends: number[];
  values: Record<string, (number | null)[]>;
  empty: boolean[];
  open: boolean[];
  whole: Record<string, number | null>;
  wholeTimes: Record<string, string | null>;
  coverage: number | null;
  /** What is missing in the range, and why. */
  missing: Gap[];
  tier: string;
  width: string;
}

/** A time for which something of a series is not here. */
export interface Gap {
  from: number; // ms since 1970
  to: number; // Infinity: it goes on
  of: string; // "": all
  cause: string;
  detail: string;
}

export function rowsOf(answer: Windows): Row[] {
  const starts = answer.starts.map((t) => Date.parse(t));
  const ends = answer.ends.map((t) => Date.parse(t));
  return answer.series.map((s) => rowOf(s, starts, ends, answer.width));
}

function rowOf(s: SeriesWindows, starts: number[], ends: number[], width: string): Row {
  return {
    key: s.shift ? `${s.name} −${s.shift}` : s.name,
    name: s.name,
    kind: s.kind,
    unit: s.unit,
    states: s.states ?? {},
    shift: s.shift,
    starts,
    ends,
    values: s.values,
    empty: s.empty,
    open: s.open,
    whole: s.whole.values,
    wholeTimes: s.whole.times,
    coverage: s.coverage,
    missing: (s.missing ?? []).map((g) => ({
      from: Date.parse(g.from),
      to: g.to ? Date.parse(g.to) : Infinity,
      of: g.of,
      cause: g.cause,
      detail: g.detail,
    })),
    tier: s.tier,
    width,
  };
}

/** The window that a time is in, -1 when it is in none. */
export function windowAt(row: { starts: number[]; ends: number[] }, ms: number): number {
  let low = 0;
  let high = row.starts.length - 1;
  while (low <= high) {
    const middle = (low + high) >> 1;
    if ((row.starts[middle] ?? 0) > ms) high = middle - 1;
    else low = middle + 1;
  }
  return high >= 0 && ms < (row.ends[high] ?? 0) ? high : -1;
}

/** Why something is missing of a span of a series, in words; "" where nothing is, or the cause is not known. */
export function whyMissing(row: Row, from: number, to: number, empty: boolean): string {
  const causes = row.missing
    .filter((g) => g.from < to && g.to > from && (g.of === "" || empty))
    .map((g) => causeInWords(g.cause));
  return [...new Set(causes)].join(", ");
}

export const causeInWords = (cause: string) => cause.replaceAll("_", " ");

/** The value of a stat in a window. */
export const valueAt = (row: Row, stat: string, window: number): number | null =>
  window < 0 ? null : (row.values[stat]?.[window] ?? null);

/** The last window that has a value of a stat. */
export function lastKnown(row: Row, stat: string): number | null {
  const values = row.values[stat] ?? [];
  for (let i = values.length - 1; i >= 0; i--) {
    const v = values[i];
    if (v !== null && v !== undefined) return v;
  }
  return null;
}

/** What tells names apart: the levels in which they differ. */
export function labelsOf(names: string[]): string[] {
  const levels = names.map((n) => n.split("/"));
  const longest = Math.max(0, ...levels.map((l) => l.length));
  const differ: number[] = [];
  for (let i = 0; i < longest; i++) if (new Set(levels.map((l) => l[i])).size > 1) differ.push(i);
  if (differ.length === 0) return levels.map((l) => (l[l.length - 1] ?? "").replaceAll("_", " "));
  return levels.map((l) =>
    differ
      .map((i) => l[i])
      .filter(Boolean)
      .join(" ")
      .replaceAll("_", " "),
  );
}

import type { Row } from "./rows";

/** A part of a strip in which one state held, or several did. */
export interface Piece {
  from: number;
  to: number;
  /** The values that were seen, with the share of the time each held; empty: nothing is known. */
  shares: [value: number, share: number][];
}

/** A strip of the states that the windows of a row were in; neighbours that are alike are one. */
export function pieces(row: Row, values: number[]): Piece[] {
  const out: Piece[] = [];
  for (const [i, from] of row.starts.entries()) {
    const to = row.ends[i] ?? from;
    const seen = sharesOf(row, values, i);
    const before = out[out.length - 1];
    if (before && before.to === from && alike(before.shares, seen)) before.to = to;
    else out.push({ from, to, shares: seen });
  }
  return out.filter((p) => p.shares.length > 0);
}

function sharesOf(row: Row, values: number[], i: number): [number, number][] {
  const seen = values
    .map((v): [number, number] => [v, row.values[`share:${v}`]?.[i] ?? 0])
    .filter(([, share]) => share > 0);
  const all = seen.reduce((sum, [, share]) => sum + share, 0);
  if (seen.length === 0 || row.empty[i]) return [];
  // The shares are of what is known of the window; a sliver is rounding.
  return seen.map(([v, s]): [number, number] => [v, s / all]).filter(([, s]) => s > 0.0005);
}

const alike = (a: [number, number][], b: [number, number][]) =>
  a.length === 1 && b.length === 1 && a[0]?.[0] === b[0]?.[0];

/** The values of the states that rows can be in, with their names, lowest first. */
export function statesOf(all: Record<string, number>[]): { value: number; name: string }[] {
  const names = new Map<number, string>();
  for (const states of all) for (const [name, value] of Object.entries(states)) names.set(value, name);
  return [...names].map(([value, name]) => ({ value, name })).sort((a, b) => a.value - b.value);
}

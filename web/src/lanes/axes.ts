import type { BoardLane, Series } from "../api/client";
import { at, matches } from "../board/board";
import type { UnitsOf } from "../units";

export const mostAxes = 4;

/** The series of a catalogue that a lane names. */
export function seriesOf(lane: BoardLane, catalogue: Map<string, Series>, about?: string): Series[] {
  const out = new Map<string, Series>();
  for (const text of lane.series ?? []) {
    const name = at(text, about);
    if (name === undefined) continue;
    if (!/[+#]/.test(name)) {
      const one = catalogue.get(name);
      if (one) out.set(name, one);
      continue;
    }
    for (const one of catalogue.values())
      if (matches(name, one.path) && !one.path.endsWith("/quality")) out.set(one.path, one);
  }
  return [...out.values()];
}

/** The units of the axes of a lane, as people write them: left, right, left again, right again. */
export function axesOf(
  lane: BoardLane,
  catalogue: Map<string, Series>,
  units: UnitsOf,
  about?: string,
): string[] {
  if (lane.kind === "bearing") return ["°"];
  if (lane.kind !== "chart" && lane.kind !== "growth") return [];
  const found = new Set<string>();
  if (!lane.difference) for (const s of seriesOf(lane, catalogue, about)) found.add(units(s.unit).written);
  else for (const s of seriesOf(lane, catalogue, about).slice(0, 1)) found.add(units(s.unit).written);
  if (lane.calculate) found.add(units(lane.calculate.unit ?? "").written);
  if (found.size === 0) found.add("");
  return [...found].slice(0, mostAxes);
}

const axisWidth = 56;

/** The margins beside the plots, the same for all lanes of a page. */
export function margins(axes: string[][], px: number, named = false): { left: number; right: number } {
  const most = Math.max(1, ...axes.map((a) => a.length));
  const narrow = px < 600;
  const names = named ? (narrow ? 64 : 92) : 0; // of the rows of strips
  const left = Math.max(names, (narrow ? 48 : axisWidth) * Math.ceil(most / 2));
  const rightAxes = Math.floor(most / 2) * (narrow ? 44 : axisWidth);
  return { left, right: rightAxes + (narrow ? 22 : 92) };
}

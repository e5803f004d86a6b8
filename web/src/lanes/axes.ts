import type { BoardLane, Series } from "../api/client";
import { at, matches } from "../board/board";
import type { UnitsOf } from "../units";
import { kindOf } from "./kinds";

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

type Place = [catalogue: Map<string, Series>, units: UnitsOf, about?: string];

/** The units of the axes of a lane, as people write them: left, right, left again, right again. */
export function axesOf(lane: BoardLane, ...place: Place): string[] {
  const { unit, axes } = kindOf(lane);
  if (unit) return [unit];
  return unitsIn(lane, ...place).slice(0, axes ?? 0);
}

/** The units for which no axis is left. What has them is not drawn: it would be read on a scale of something else. */
export function leftOut(lane: BoardLane, ...place: Place): string[] {
  return unitsIn(lane, ...place).slice(kindOf(lane).axes ?? Infinity);
}

/** Which axis of a lane a unit is on; -1 where none is left for it. */
export function axisOf(lane: BoardLane, axes: string[], unit: string): number {
  const at = axes.indexOf(unit);
  return at < 0 && axes.length < (kindOf(lane).axes ?? Infinity) ? 0 : at;
}

function unitsIn(lane: BoardLane, ...[catalogue, units, about]: Place): string[] {
  const found = new Set<string>();
  if (!lane.difference) for (const s of seriesOf(lane, catalogue, about)) found.add(units(s.unit).written);
  else for (const s of seriesOf(lane, catalogue, about).slice(0, 1)) found.add(units(s.unit).written);
  if (lane.calculate) found.add(units(lane.calculate.unit ?? "").written);
  if (found.size === 0) found.add("");
  return [...found];
}

/** The space above a plot, in which the units stand, in px. */
export const plotTop = 20;

/** What a plot calls an axis. */
export const scaleName = (axis: number) => `y${axis}`;

/** How wide an axis is, in px. */
export const axisWidth = (px: number) => (px < 600 ? 46 : 56);

/** The margins beside the plots, the same for all lanes of a page. */
export function margins(axes: string[][], px: number, named = false): { left: number; right: number } {
  const most = Math.max(1, ...axes.map((a) => a.length));
  const narrow = px < 600;
  const names = named ? (narrow ? 64 : 92) : 0; // of the rows of strips
  const left = Math.max(names, axisWidth(px) * Math.ceil(most / 2));
  const rightAxes = Math.floor(most / 2) * axisWidth(px);
  return { left, right: rightAxes + (narrow ? 22 : 92) };
}

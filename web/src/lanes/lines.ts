import type { BoardLane } from "../api/client";
import { axisOf } from "./axes";
import type { View } from "./view";
import { beside, unwrapped } from "./bearing";
import { kindOf } from "./kinds";
import { labelsOf, type Row } from "./rows";

/** One line of a chart. */
export interface Line {
  key: string;
  name: string;
  label: string;
  /** Which hue; a ghost has that of the line it is of. */
  hue: number;
  ghost: boolean;
  /** Which of the lane's axes, and its unit. */
  axis: number;
  unit: string;
  x: number[]; // s since 1970
  mid: (number | null)[];
  low: (number | null)[];
  high: (number | null)[];
  band: boolean;
}

/** The lines of a lane's rows, on its axes. A window is drawn in its middle. */
export function linesOf(lane: BoardLane, rows: Row[], axes: string[], view: View): Line[] {
  const kind = kindOf(lane);
  const own = rows.filter((r) => !r.shift);
  const labels = labelsOf(own.map((r) => r.name));
  let first: (number | null)[] | undefined; // the direction that the others are drawn beside
  const hue = new Map(own.map((r, i) => [r.name, i]));
  return rows.flatMap((r, i): Line[] => {
    const index = hue.get(r.name) ?? i;
    const unit = view.units(r.unit).written;
    const axis = axisOf(lane, axes, unit);
    if (axis < 0) return [];
    const stat = kind.drawn(lane);
    const computed = r.values[stat] === undefined && r.values.value !== undefined;
    let mid = r.values[computed ? "value" : stat] ?? [];
    if (kind.circular) {
      mid = unwrapped(mid);
      if (first) mid = beside(mid, first);
      else if (mid.some((d) => d !== null)) first = mid;
    }
    const label = labels[index] ?? r.name;
    const line: Line = {
      key: r.key,
      name: r.name,
      label: r.shift ? `${label}, ${r.shift} earlier` : label,
      hue: index,
      ghost: r.shift !== "",
      axis,
      unit,
      x: r.starts.map((s, w) => (s + (r.ends[w] ?? s)) / 2000),
      mid,
      low: r.values.min ?? [],
      high: r.values.max ?? [],
      band: !computed && stat === "mean" && !lane.no_band && !r.shift && kind.detailed === true,
    };
    return [line];
  });
}

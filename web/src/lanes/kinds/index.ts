import type { BoardLane, Series } from "../../api/client";
import { bearing } from "./bearing";
import { chart } from "./chart";
import { coverage } from "./coverage";
import { growth } from "./growth";
import { highest, lowest, type Kind, type LaneKind } from "./kind";
import { notes } from "./notes";
import { states } from "./states";
import { text } from "./text";

export { highest, lowest, type Fact, type Kind, type LaneKind } from "./kind";

/** The kinds of lanes. How each draws its rows says Drawn.tsx. */
export const laneKinds: Record<Kind, LaneKind> = { chart, states, growth, bearing, coverage, notes, text };

/** What a lane is; lines, where an address or a file says something else. */
export const kindOf = (lane: Pick<BoardLane, "kind">): LaneKind => laneKinds[lane.kind] ?? chart;

/** The kind of lane that shows a series. */
export function kindFor(series: Pick<Series, "kind"> | undefined): Kind {
  const found = Object.entries(laneKinds).find(([, k]) => k.suits && k.suits === series?.kind);
  return (found?.[0] ?? "chart") as Kind;
}

/** How high a lane is, in px, when nobody made it another. */
export function heightOf(lane: BoardLane, rows = 1): number {
  if (lane.height) return Math.min(highest, Math.max(lowest, Number(lane.height) || lowest)); // an address may say anything
  return kindOf(lane).height(rows);
}

import { fixed, percent } from "../../format";
import { compass } from "../bearing";
import { said, valueOf, type LaneKind } from "./kind";

const direction = (v: number) => `${compass(v)} ${fixed(v, 0)}°`;

export const bearing: LaneKind = {
  name: "directions",
  title: (_, full) => full,
  height: () => 132,
  onWall: () => ({ least: 88, most: Infinity }),
  suits: "bearing",
  unit: "°",
  circular: true,
  stats: () => ["mean", "steadiness", "last", "count"],
  drawn: () => "mean",
  compares: true,
  present: (lane, row, window) =>
    said(valueOf(row, row.values.value ? "value" : bearing.drawn(lane), window), direction),
  facts: (_, { whole: w }) => [
    ["vector mean", w.mean == null ? "–" : direction(w.mean)],
    ["steadiness", percent(w.steadiness, 0)],
  ],
};

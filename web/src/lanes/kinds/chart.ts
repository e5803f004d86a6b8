import { number } from "../../format";
import { plainly, said, valueOf, withUnit, type Fact, type LaneKind } from "./kind";

const usual = ["mean", "min", "max", "min_at", "max_at", "last", "last_at", "count"];

export const chart: LaneKind = {
  name: "lines",
  title: (_, full) => full,
  height: (rows) => Math.min(320, Math.max(176, 46 * rows)), // as high as its figures beside it
  onWall: () => ({ least: 92, most: Infinity }),
  suits: "gauge",
  axes: 4,
  stats: (lane) => [...(lane.stat && !usual.includes(lane.stat) ? [lane.stat] : []), ...usual],
  drawn: (lane) => lane.stat || "mean",
  compares: true,
  saysHowFar: true,
  detailed: true,
  present: (lane, row, window, unit) =>
    said(valueOf(row, row.values.value ? "value" : chart.drawn(lane), window), plainly(unit)),
  facts: (lane, { whole: w, values }, unit, when) => {
    if (values.value) return [["whole range", withUnit(number(w.value), unit)]];
    return [
      ["mean", number(w.mean)],
      ["lowest", number(w.min), when("min_at")],
      ["highest", number(w.max), when("max_at")],
      ...(lane.stat && w[lane.stat] !== undefined && !["mean", "min", "max"].includes(lane.stat)
        ? [[lane.stat, number(w[lane.stat])] as Fact]
        : []),
    ];
  },
};

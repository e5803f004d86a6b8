import { number } from "../../format";
import { plainly, said, valueOf, withUnit, type Fact, type LaneKind } from "./kind";

export const growth: LaneKind = {
  name: "growth as bars",
  title: (_, full) => full,
  height: () => 120,
  onWall: () => ({ least: 64, most: Infinity }),
  suits: "counter",
  axes: 1,
  stats: () => ["increase", "rate/h", "restarts", "last", "count"],
  drawn: () => "increase",
  compares: true,
  saysHowFar: true,
  range: (low, high) => [Math.min(0, low), high * 1.05 || 1],
  present: (lane, row, window, unit) => {
    const stat = row.values.value ? "value" : growth.drawn(lane);
    return said(valueOf(row, stat, window, stat), plainly(unit));
  },
  facts: (_, { whole: w }, unit) => [
    ["grew by", withUnit(number(w.increase), unit)],
    ["an hour", number(w["rate/h"])],
    ...(w.restarts ? [["restarts", number(w.restarts)] as Fact] : []),
  ],
};

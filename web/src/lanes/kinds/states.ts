import { number, stateName } from "../../format";
import { length } from "../../time/duration";
import { lastKnown, valueAt } from "../rows";
import { statesOf } from "../strips";
import type { Fact, LaneKind } from "./kind";
import { strips } from "./strips";

export const states: LaneKind = {
  ...strips,
  name: "states as strips",
  title: (_, full) => full,
  suits: "state",
  statesInColour: true,
  stats: (_, all) => [
    ...statesOf(all).flatMap((s) => [`share:${s.value}`, `duration:${s.value}`]),
    ...["changes", "last", "last_at", "count"],
  ],
  drawn: (lane) => lane.stat || "mean",
  compares: true,
  present: (_, row, window) => {
    if (window < 0) return stateName(row.states, lastKnown(row, "last"));
    const seen = Object.values(row.states).filter((v) => (valueAt(row, `share:${v}`, window) ?? 0) > 0.0005);
    return seen.length === 0 ? "no data" : seen.map((v) => stateName(row.states, v)).join(", ");
  },
  facts: (_, { whole: w, states: names }) => [
    ...Object.entries(names)
      .filter(([, v]) => (w[`duration:${v}`] ?? 0) > 0)
      .map(([name, v]): Fact => [name, length((w[`duration:${v}`] ?? 0) * 1000)]),
    ["changes", number(w.changes)],
  ],
};

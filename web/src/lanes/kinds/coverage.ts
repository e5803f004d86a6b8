import { count, percent } from "../../format";
import { said, valueOf, type LaneKind } from "./kind";
import { strips } from "./strips";

export const coverage: LaneKind = {
  ...strips,
  name: "coverage",
  title: (what) => `Coverage of ${what}`,
  stats: () => ["coverage", "count"],
  drawn: () => "coverage",
  // The newest window has only begun, so that it says little of how much is covered.
  present: (_, row, window) =>
    window < 0
      ? percent(row.coverage)
      : said(valueOf(row, row.values.value ? "value" : "coverage", window), (v) => percent(v, 0)),
  facts: (_, row) => [
    ["windows without data", `${count(row.empty.filter(Boolean).length)} of ${count(row.empty.length)}`],
  ],
};

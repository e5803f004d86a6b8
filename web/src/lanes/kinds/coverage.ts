import { age, count, percent } from "../../format";
import { causeInWords, whyMissing, type Row } from "../rows";
import { said, valueOf, type Fact, type LaneKind } from "./kind";
import { strips } from "./strips";

/** What is missing in the range by cause, the longest first. */
function causes(row: Row): Fact[] {
  const from = row.starts[0] ?? 0;
  const to = Math.min(row.ends[row.ends.length - 1] ?? 0, Date.now());
  const by = new Map<string, number>();
  for (const g of row.missing) {
    if (g.of !== "") continue;
    by.set(g.cause, (by.get(g.cause) ?? 0) + Math.max(0, Math.min(g.to, to) - Math.max(g.from, from)));
  }
  return [...by].sort((a, b) => b[1] - a[1]).map(([cause, length]) => [causeInWords(cause), age(length)]);
}

export const coverage: LaneKind = {
  ...strips,
  name: "coverage",
  title: (what) => `Coverage of ${what}`,
  stats: () => ["coverage", "count"],
  drawn: () => "coverage",
  // The newest window has only begun, so that it says little of how much is covered.
  present: (_, row, window) => {
    if (window < 0) return percent(row.coverage);
    const share = valueOf(row, row.values.value ? "value" : "coverage", window);
    const why = whyMissing(row, row.starts[window] ?? 0, row.ends[window] ?? 0, row.empty[window] ?? false);
    const text = said(share, (v) => percent(v, 0));
    return why && (share ?? 0) < 1 ? `${text}: ${why}` : text;
  },
  facts: (_, row) => [
    ["windows without data", `${count(row.empty.filter(Boolean).length)} of ${count(row.empty.length)}`],
    ...causes(row),
  ],
};

import type { RejectCounts } from "../api/client";

/** How many were refused in one step of time, by what refused them. */
export interface Step {
  from: number;
  to: number;
  by: Map<string, number>;
  all: number;
}

/** Counts of hours as steps of so many hours, by rule or by source. */
export function stepsOf(counts: RejectCounts, hours: number, by: "rule" | "source"): Step[] {
  const size = hours * 3_600_000;
  const first = Math.floor(Date.parse(counts.from) / size) * size;
  const end = Date.parse(counts.to);
  const out: Step[] = [];
  for (let from = first; from < end && out.length < 1000; from += size)
    out.push({ from, to: from + size, by: new Map(), all: 0 });
  for (const c of counts.counts) {
    const step = out[Math.floor((Date.parse(c.hour) - first) / size)];
    if (!step) continue;
    step.by.set(c[by], (step.by.get(c[by]) ?? 0) + c.count);
    step.all += c.count;
  }
  return out;
}

/** The names, those with most first. */
export function namesOf(steps: Step[]): { name: string; count: number }[] {
  const all = new Map<string, number>();
  for (const s of steps) for (const [name, n] of s.by) all.set(name, (all.get(name) ?? 0) + n);
  return [...all]
    .map(([name, count]) => ({ name, count }))
    .sort((a, b) => b.count - a.count || a.name.localeCompare(b.name));
}

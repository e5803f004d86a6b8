import type { Reject } from "../api/client";

/** Rejects of one source and place by one rule, the newest first. */
export interface Group {
  key: string;
  rejects: [Reject, ...Reject[]];
}

/** Groups of rejects that are alike, in the order of their newest. Rejects are in order of time, the newest first. */
export function groupsOf(rejects: Reject[]): Group[] {
  const found = new Map<string, Group>();
  for (const r of rejects) {
    // One that counts by now is not like one that does not.
    const key = JSON.stringify([r.source, r.place, r.rule, r.replayed_at !== null]);
    const group = found.get(key);
    if (group) group.rejects.push(r);
    else found.set(key, { key, rejects: [r] });
  }
  return [...found.values()];
}

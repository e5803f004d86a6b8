import { useState } from "react";
import type { BoardLane } from "../api/client";

export interface Named {
  id: string;
  text: string;
}

/** Ids for lanes, which follow a lane through moves and changes: first one that says the same, then the one at its place. */
export function namedLanes(before: Named[], lanes: BoardLane[]): Named[] {
  const left: (Named | null)[] = [...before];
  const texts = lanes.map((lane) => JSON.stringify(lane));
  const takes = (k: number) => {
    const found = left[k] ?? null;
    left[k] = null;
    return found;
  };
  const out = texts.map((text, i) => {
    const same = (k: number) => left[k]?.text === text;
    return same(i) ? takes(i) : takes(left.findIndex((_, k) => same(k) && texts[k] !== text));
  });
  let count = Math.max(-1, ...before.map((b) => Number(b.id.slice(prefix.length))));
  return texts.map((text, i) => {
    const found = out[i] ?? (lanes.length === before.length ? takes(i) : null);
    return { id: found?.id ?? `${prefix}${++count}`, text };
  });
}

const prefix = "lane-";

/** The ids of a board's lanes, which have none of their own. */
export function useLaneIds(lanes: BoardLane[]): string[] {
  const [before, keep] = useState<Named[]>([]);
  const now = namedLanes(before, lanes);
  if (
    now.length !== before.length ||
    now.some((n, i) => n.text !== before[i]?.text || n.id !== before[i]?.id)
  )
    keep(now);
  return now.map((n) => n.id);
}

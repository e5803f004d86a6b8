import { useCallback, useEffect, useSyncExternalStore } from "react";
import type { Value } from "../api/client";
import { live, type Standing } from "./store";

/** Keeps the stream open while a part of the page is shown. */
export function useStream() {
  useEffect(() => live.use(), []);
}

/** The latest value of a series, undefined before it is known; what shows many opens the stream for all. */
export function useLatest(path: string): Value | undefined {
  const subscribe = useCallback((notice: () => void) => live.subscribeTo(path, notice), [path]);
  return useSyncExternalStore(subscribe, () => live.values.get(path));
}

/** All latest values, told only when series came or went. */
export function useSeriesSeen(): { values: Map<string, Value>; version: number } {
  useStream();
  const version = useSyncExternalStore(live.subscribe, () => live.listVersion);
  return { values: live.values, version };
}

export function useStanding(): Standing {
  useStream();
  return useSyncExternalStore(live.subscribe, () => live.standing);
}

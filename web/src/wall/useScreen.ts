import { useSyncExternalStore } from "react";

function subscribe(changed: () => void) {
  addEventListener("resize", changed);
  return () => removeEventListener("resize", changed);
}

/** The size of the window in px. */
export function useScreen(): { width: number; height: number } {
  const width = useSyncExternalStore(subscribe, () => innerWidth);
  const height = useSyncExternalStore(subscribe, () => innerHeight);
  return { width, height };
}

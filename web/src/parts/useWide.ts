import { useSyncExternalStore } from "react";

const wide = () => matchMedia("(min-width: 64rem)");

function subscribe(changed: () => void) {
  const media = wide();
  media.addEventListener("change", changed);
  return () => media.removeEventListener("change", changed);
}

/** Whether there is room for figures beside a plot. */
export function useWide(): boolean {
  return useSyncExternalStore(subscribe, () => wide().matches);
}

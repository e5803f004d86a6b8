import { useSyncExternalStore } from "react";
import { usePaper } from "./paper";

const wide = () => matchMedia("(min-width: 64rem)");

function subscribe(changed: () => void) {
  const media = wide();
  media.addEventListener("change", changed);
  return () => media.removeEventListener("change", changed);
}

/** Whether there is room for figures beside a plot, as `desk:` says in styles. */
export function useWide(): boolean {
  const paper = usePaper();
  return useSyncExternalStore(subscribe, () => wide().matches) && !paper;
}

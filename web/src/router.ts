import { useSyncExternalStore } from "react";

/* The address is the only place where what is shown is kept, so that every view can
   be bookmarked and sent to somebody. */

function subscribe(changed: () => void) {
  addEventListener("popstate", changed);
  return () => removeEventListener("popstate", changed);
}

const current = () => location.pathname + location.search;

export function useAddress(): URL {
  return new URL(useSyncExternalStore(subscribe, current), location.origin);
}

export function go(to: string, replace = false) {
  if (replace) history.replaceState(null, "", to);
  else history.pushState(null, "", to);
  dispatchEvent(new PopStateEvent("popstate"));
}

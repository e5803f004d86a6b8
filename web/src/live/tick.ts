import { useSyncExternalStore } from "react";
import { serviceNow } from "../time/clock";

/* One clock for all that shows an age, so that a thousand of them need one timer. */

const every = 2000;

let now = 0;
let timer: ReturnType<typeof setInterval> | undefined;
const notices = new Set<() => void>();

function subscribe(notice: () => void) {
  notices.add(notice);
  timer ??= setInterval(() => {
    now = serviceNow();
    notices.forEach((n) => n());
  }, every);
  return () => {
    notices.delete(notice);
    if (notices.size === 0) {
      clearInterval(timer);
      timer = undefined;
      now = 0;
    }
  };
}

/** The service's time in ms since 1970, every two seconds. */
export function useTick(): number {
  return useSyncExternalStore(subscribe, () => (now ||= serviceNow()));
}

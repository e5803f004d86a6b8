import { useSyncExternalStore } from "react";
import { clockAhead, subscribeClock } from "../time/clock";
import { length } from "../time/duration";

const tolerated = 60_000; // ms

const wrongBy = () => (Math.abs(clockAhead()) < tolerated ? 0 : Math.round(clockAhead() / 1000) * 1000);

/** Says that the clock of the viewer's device differs from the service's. */
export function WrongClock() {
  const by = useSyncExternalStore(subscribeClock, wrongBy);
  if (by === 0) return null;
  return (
    <p role="status" className="mt-3 rounded-sheet bg-stale-wash px-3 py-2 text-stale" data-wrong-clock>
      The clock of this device is {length(Math.abs(by))} {by > 0 ? "behind" : "ahead of"} the service’s. Times
      and ages on this page follow the service.
    </p>
  );
}

/* The service's clock. Ranges and ages follow it, as the clock of a laptop in a pump house may be wrong. */

let ahead = 0; // ms
const notices = new Set<() => void>();

/** The service's time in ms since 1970. */
export const serviceNow = () => Date.now() + ahead;

/** How far the service's clock is ahead of this device's, in ms. */
export const clockAhead = () => ahead;

/** Takes what the service's clock shows now, in ms since 1970. What is known only to a second or so counts when it
 *  differs by more than that from what is known already. */
export function heardClock(ms: number, uncertain = 0) {
  const found = ms - Date.now();
  if (Number.isNaN(found) || Math.abs(found - ahead) <= uncertain) return;
  ahead = found;
  notices.forEach((n) => n());
}

export function subscribeClock(notice: () => void) {
  notices.add(notice);
  return () => {
    notices.delete(notice);
  };
}

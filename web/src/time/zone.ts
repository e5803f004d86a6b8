import { TZDate, tzOffset } from "@date-fns/tz";

/** The year, month, day, hour, minute and second that the clocks of a zone show. */
export interface Clock {
  year: number;
  month: number; // 1 to 12
  day: number;
  hour: number;
  minute: number;
  second: number;
}

/** Whether this browser knows a zone. */
export function isZone(zone: string): boolean {
  try {
    new Intl.DateTimeFormat("en", { timeZone: zone });
    return zone !== "";
  } catch {
    return false;
  }
}

export const viewerZone = () => Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC";

/** What the clocks of a zone show at a time, in ms since 1970. */
export function clockAt(ms: number, zone: string): Clock {
  const d = new TZDate(ms, zone);
  return {
    year: d.getFullYear(),
    month: d.getMonth() + 1,
    day: d.getDate(),
    hour: d.getHours(),
    minute: d.getMinutes(),
    second: d.getSeconds(),
  };
}

/** The time at which the clocks of a zone show something: the first one where they show it
 *  twice, and where never, the moment at which they are set ahead past it. Months and days
 *  may be beyond their ends. */
export function timeOf(
  zone: string,
  year: number,
  month: number,
  day: number,
  hour = 0,
  minute = 0,
  second = 0,
): number {
  const shown = Date.UTC(year, month - 1, day, hour, minute, second);
  const minutes = (at: number) => tzOffset(zone, new Date(at)) * 60_000;
  // The offsets well before and well after: one of them, or both, lead there.
  const before = minutes(shown - 86_400_000);
  const after = minutes(shown + 86_400_000);
  const candidates = [shown - before, shown - after].filter((at) => minutes(at) === shown - at);
  if (candidates.length > 0) return Math.min(...candidates);
  return firstAtOffset(shown - before - 86_400_000, shown - after + 86_400_000, after, minutes);
}

/** The first time between two at which the offset is another, which it is from then on. */
function firstAtOffset(low: number, high: number, offset: number, minutes: (at: number) => number): number {
  while (high - low > 1) {
    const middle = Math.floor((low + high) / 2);
    if (minutes(middle) === offset) high = middle;
    else low = middle;
  }
  return high;
}

export const midnight = (zone: string, year: number, month: number, day: number) =>
  timeOf(zone, year, month, day);

/** The midnight that begins the day of a time, or one so many days later. */
export function dayStart(ms: number, zone: string, later = 0): number {
  const c = clockAt(ms, zone);
  return midnight(zone, c.year, c.month, c.day + later);
}

/** How a zone is called at a time, such as "Europe/Oslo, UTC+01:00". */
export function zoneText(zone: string, ms: number): string {
  if (zone === "UTC") return "UTC";
  const minutes = tzOffset(zone, new Date(ms));
  const size = Math.abs(minutes);
  const text = `${String(Math.floor(size / 60)).padStart(2, "0")}:${String(size % 60).padStart(2, "0")}`;
  return `${zone.replaceAll("_", " ")}, UTC${minutes < 0 ? "−" : "+"}${text}`;
}

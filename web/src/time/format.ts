/* Times as the viewer's own country writes them, by the clocks of a zone that the page says. */

const formats = new Map<string, Intl.DateTimeFormat>();

function format(zone: string, options: Intl.DateTimeFormatOptions): Intl.DateTimeFormat {
  const key = zone + JSON.stringify(options);
  let found = formats.get(key);
  if (!found) {
    found = new Intl.DateTimeFormat(undefined, { timeZone: zone, hourCycle: "h23", ...options });
    formats.set(key, found);
  }
  return found;
}

const clock: Intl.DateTimeFormatOptions = { hour: "2-digit", minute: "2-digit" };

/** A time of day, with the date unless it is a certain day's. */
export function shortTime(ms: number, zone: string, within?: { from: number; to: number }): string {
  const sameDay = within && within.to - within.from <= 86_400_000;
  const date: Intl.DateTimeFormatOptions = { day: "numeric", month: "short" };
  return format(zone, sameDay ? clock : { ...date, ...clock }).format(ms);
}

export function timeOfDay(ms: number, zone: string): string {
  return format(zone, clock).format(ms);
}

export function longTime(ms: number, zone: string, withSeconds = false): string {
  return format(zone, {
    weekday: "short",
    day: "numeric",
    month: "short",
    year: "numeric",
    ...clock,
    ...(withSeconds ? { second: "2-digit" } : {}),
  }).format(ms);
}

export function date(ms: number, zone: string): string {
  return format(zone, { day: "numeric", month: "short", year: "numeric" }).format(ms);
}

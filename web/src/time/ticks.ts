import { clockAt, timeOf } from "./zone";

export interface Tick {
  at: number; // ms since 1970
  text: string;
  day: boolean; // a day, a month or a year begins there
}

type Step = { minutes: number } | { days: number } | { months: number } | { seconds: number };

const steps: [ms: number, step: Step][] = [
  ...[1, 5, 10, 30].map((s): [number, Step] => [s * 1000, { seconds: s }]),
  ...[1, 2, 5, 10, 15, 30, 60, 120, 180, 360, 720].map((m): [number, Step] => [m * 60_000, { minutes: m }]),
  ...[1, 2, 7, 14].map((d): [number, Step] => [d * 86_400_000, { days: d }]),
  ...[1, 3, 6, 12, 24, 60, 120].map((m): [number, Step] => [m * 30.44 * 86_400_000, { months: m }]),
];

/** Where the time axis has its marks: at round times of the zone's clocks, also on days of 23
 *  and 25 hours, and so many at most. */
export function ticks(from: number, to: number, zone: string, most: number, locale?: string): Tick[] {
  const wanted = (to - from) / Math.max(1, most);
  const [, step] = steps.find(([ms]) => ms >= wanted) ?? [0, { months: 120 }];
  const out: number[] = [];
  const start = clockAt(from, zone);
  if ("seconds" in step) {
    const ms = step.seconds * 1000;
    for (let at = Math.ceil(from / ms) * ms; at < to; at += ms) out.push(at);
  } else if ("minutes" in step) {
    for (let day = 0; out.length < 500; day++) {
      const first = timeOf(zone, start.year, start.month, start.day + day);
      if (first >= to) break;
      const next = timeOf(zone, start.year, start.month, start.day + day + 1);
      for (const at of ofDay(zone, start, day, step.minutes, first, next))
        if (at >= from && at < to) out.push(at);
    }
  } else if ("days" in step) {
    const since = Math.floor(Date.UTC(start.year, start.month - 1, start.day) / 86_400_000) + 3; // a Monday
    const off = step.days >= 7 ? (step.days - (since % step.days)) % step.days : 0;
    for (let day = off; out.length < 500; day += step.days) {
      const at = timeOf(zone, start.year, start.month, start.day + day);
      if (at >= to) break;
      if (at >= from) out.push(at);
    }
  } else {
    const first = Math.floor((start.year * 12 + start.month - 1) / step.months) * step.months;
    for (let month = first; out.length < 500; month += step.months) {
      const at = timeOf(zone, Math.floor(month / 12), (month % 12) + 1, 1);
      if (at >= to) break;
      if (at >= from) out.push(at);
    }
  }
  return out.map((at) => tick(at, zone, step, locale));
}

/** Round times of one day. Where the clocks are set back an hour comes twice, where they are
 *  set ahead one does not come. */
function ofDay(
  zone: string,
  start: { year: number; month: number; day: number },
  day: number,
  minutes: number,
  first: number,
  next: number,
): number[] {
  const found = new Set<number>();
  for (let m = 0; m < 1440; m += minutes) {
    const at = timeOf(zone, start.year, start.month, start.day + day, Math.floor(m / 60), m % 60);
    if (at >= first && at < next) found.add(at);
    const again = at + 3_600_000;
    const c = clockAt(again, zone);
    if (minutes <= 60 && again < next && c.hour * 60 + c.minute === m) found.add(again);
  }
  return [...found].sort((a, b) => a - b);
}

function tick(at: number, zone: string, step: Step, locale?: string): Tick {
  const c = clockAt(at, zone);
  const say = (options: Intl.DateTimeFormatOptions) =>
    new Intl.DateTimeFormat(locale, { timeZone: zone, ...options }).format(at);
  if ("months" in step) {
    const year = c.month === 1;
    return { at, day: year, text: year ? String(c.year) : say({ month: "short" }) };
  }
  const midnight = c.hour === 0 && c.minute === 0 && c.second === 0;
  if ("days" in step || midnight) return { at, day: midnight, text: say({ day: "numeric", month: "short" }) };
  const options: Intl.DateTimeFormatOptions = { hour: "2-digit", minute: "2-digit", hourCycle: "h23" };
  return { at, day: false, text: say("seconds" in step ? { ...options, second: "2-digit" } : options) };
}

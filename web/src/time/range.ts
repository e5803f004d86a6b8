import { seconds } from "./duration";
import { clockAt, midnight } from "./zone";

/** A range of time: the last so much up to now, one of the calendar, or from and to in ms
 *  since 1970. */
export type Range =
  | { kind: "last"; last: string }
  | { kind: "calendar"; calendar: string }
  | { kind: "span"; from: number; to: number };

/** A range at a time: what is asked for, and where the axis ends, which for a day that is not
 *  over is its end. */
export interface Span {
  from: number;
  to: number;
  end: number;
}

export const lasts = ["1h", "6h", "1d", "3d", "1w", "1mo", "1y"];
export const calendars = [
  "today",
  "yesterday",
  "this week",
  "last week",
  "this month",
  "last month",
  "this year",
  "last year",
];

/** The service answers for times between these, in ms. */
export const earliest = Date.UTC(1971, 0, 1);
export const latest = Date.UTC(2200, 0, 1);
const longest = 100 * 365.25 * 86_400_000;

export const isLive = (range: Range) =>
  range.kind === "last" || (range.kind === "calendar" && !/^(last |yesterday)/.test(range.calendar));

/** Where a range begins and ends at a time, by the clocks of a zone. Weeks begin on Monday. */
export function spanOf(range: Range, now: number, zone: string): Span {
  switch (range.kind) {
    case "span":
      return { from: range.from, to: range.to, end: range.to };
    case "last":
      return { from: back(now, range.last, zone), to: now, end: now };
    case "calendar": {
      const [from, end] = period(range.calendar, now, zone);
      return { from, to: Math.min(end, now), end };
    }
  }
}

function back(now: number, last: string, zone: string): number {
  const [, text, unit] = /^(\d+)([a-z]+)$/.exec(last) ?? [];
  const n = Number(text);
  if (unit === "mo" || unit === "y") {
    const c = clockAt(now, zone);
    const since = now - midnight(zone, c.year, c.month, c.day);
    return midnight(zone, c.year - (unit === "y" ? n : 0), c.month - (unit === "mo" ? n : 0), c.day) + since;
  }
  return now - seconds(last) * 1000;
}

function period(name: string, now: number, zone: string): [number, number] {
  const { year, month, day } = clockAt(now, zone);
  const weekday = (new Date(Date.UTC(year, month - 1, day)).getUTCDay() + 6) % 7;
  const at = (y: number, m: number, d: number) => midnight(zone, y, m, d);
  const by = name.startsWith("last") ? -1 : 0;
  switch (name) {
    case "yesterday":
      return [at(year, month, day - 1), at(year, month, day)];
    case "this week":
    case "last week": {
      const monday = day - weekday + 7 * by;
      return [at(year, month, monday), at(year, month, monday + 7)];
    }
    case "this month":
    case "last month":
      return [at(year, month + by, 1), at(year, month + by + 1, 1)];
    case "this year":
    case "last year":
      return [at(year + by, 1, 1), at(year + by + 1, 1, 1)];
    default:
      return [at(year, month, day), at(year, month, day + 1)];
  }
}

/** The range before or after one: as many days, or the month or year, by the clocks of a zone where it is made of
 *  whole days there; otherwise of the same length. */
export function moved(span: Span, by: number, zone: string): Range {
  const a = clockAt(span.from, zone);
  const b = clockAt(span.end, zone);
  const whole =
    midnight(zone, a.year, a.month, a.day) === span.from &&
    midnight(zone, b.year, b.month, b.day) === span.end;
  if (!whole) {
    const length = span.end - span.from;
    return clamped(span.from + by * length, span.end + by * length);
  }
  const months = (b.year - a.year) * 12 + b.month - a.month;
  if (a.day === 1 && b.day === 1 && months > 0)
    return clamped(
      midnight(zone, a.year, a.month + by * months, 1),
      midnight(zone, b.year, b.month + by * months, 1),
    );
  const days = Math.round(
    (Date.UTC(b.year, b.month - 1, b.day) - Date.UTC(a.year, a.month - 1, a.day)) / 86_400_000,
  );
  return clamped(
    midnight(zone, a.year, a.month, a.day + by * days),
    midnight(zone, b.year, b.month, b.day + by * days),
  );
}

/** A range around the middle of one, so many times as long. */
export function scaled(span: Span, by: number): Range {
  const middle = (span.from + span.end) / 2;
  const half = Math.min((Math.max(span.end - span.from, 10_000) * by) / 2, longest / 2);
  return clamped(middle - half, middle + half);
}

/** A span within the times that can be asked for, at least a second long. */
export function clamped(from: number, to: number): Range {
  const a = Math.round(Math.min(Math.max(from, earliest), latest - 1000));
  const b = Math.round(Math.min(Math.max(to, a + 1000), latest));
  return { kind: "span", from: a, to: b };
}

/** The range that an address says, or what is wrong with it. */
export function readRange(params: URLSearchParams): { range?: Range; wrong?: string } {
  const last = params.get("last");
  if (last !== null) {
    const length = seconds(last);
    if (length >= 1 && length * 1000 <= longest) return { range: { kind: "last", last } };
    return { wrong: `“${last}” is no length of time; write one such as 6h or 1d.` };
  }
  const calendar = params.get("range");
  if (calendar !== null) {
    if (calendars.includes(calendar)) return { range: { kind: "calendar", calendar } };
    return { wrong: `“${calendar}” is no range of the calendar; write ${calendars.join(", ")}.` };
  }
  const from = params.get("from");
  const to = params.get("to");
  if (from === null && to === null) return {};
  const [a, b] = [readTime(from), readTime(to)];
  const within = (t: number | undefined) => t !== undefined && t >= earliest && t <= latest;
  if (a === undefined || b === undefined || !within(a) || !within(b))
    return {
      wrong: `The address says from “${from ?? ""}” to “${to ?? ""}”; times are between 1971 and 2200, such as 2026-03-01T08:00:00Z.`,
    };
  if (b - a < 1000)
    return { wrong: "The address says a range that ends before it begins, or has no length." };
  return { range: { kind: "span", from: a, to: b } };
}

/** A time of an address: RFC 3339, or ms since 1970. */
function readTime(text: string | null): number | undefined {
  if (text === null || text === "") return undefined;
  const ms = /^-?\d+(\.\d+)?$/.test(text) ? Number(text) : Date.parse(text);
  return Number.isFinite(ms) ? ms : undefined;
}

/** Writes a range into an address, instead of the one that is there. */
export function writeRange(params: URLSearchParams, range: Range | undefined) {
  for (const name of ["last", "range", "from", "to"]) params.delete(name);
  if (range?.kind === "last") params.set("last", range.last);
  if (range?.kind === "calendar") params.set("range", range.calendar);
  if (range?.kind === "span") {
    params.set("from", new Date(range.from).toISOString());
    params.set("to", new Date(range.to).toISOString());
  }
}

const widths = ["10s", "30s", "1m", "5m", "15m", "30m", "1h", "3h", "6h", "12h", "1d", "1w"];

/** The narrowest usual width that cuts a span into at most so many windows. */
export function fittingWidth(span: { from: number; end: number }, most: number): string {
  return widths.find((w) => span.end - span.from <= most * seconds(w) * 1000) ?? "1mo";
}

/** A width that a series has rows for: the one wanted, or the narrowest of its tiers. */
export function widthFor(wanted: string, tiers: string[]): string {
  const narrowest = tiers[0];
  if (narrowest === undefined || seconds(wanted) >= seconds(narrowest)) return wanted;
  return narrowest;
}

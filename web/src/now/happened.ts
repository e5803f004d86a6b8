import type { components } from "../api/schema.gen";
import { clockAt, timeOf } from "../time/zone";

export type Happened = components["schemas"]["Excursions"];
type Excursion = Happened["excursions"][number];

/** The excursions of one series on one side of its normal range. Times are ms since 1970. */
export interface Excursed extends Pick<Excursion, "path" | "unit" | "side" | "beyond" | "limit" | "over"> {
  extreme: number;
  extremeAt: number;
  times: number;
  from: number;
  to: number;
  /** Of all of them together, in ms. */
  length: number;
}

const isFurther = (a: Excursed, b: Excursed) =>
  a.side === "high" ? a.extreme > b.extreme : a.extreme < b.extreme;

/** Excursions by series and side: those beyond the outer range first, then those that go on, then by begin. */
export function bySeries(excursions: Excursion[]): Excursed[] {
  const found = new Map<string, Excursed>();
  for (const e of excursions) {
    const [from, to] = [Date.parse(e.from), Date.parse(e.to)];
    const one: Excursed = {
      ...e,
      extreme: e.extreme ?? NaN,
      extremeAt: Date.parse(e.extreme_at),
      times: 1,
      from,
      to,
      length: to - from,
    };
    const key = `${e.side} ${e.path}`;
    const before = found.get(key);
    if (!before) {
      found.set(key, one);
      continue;
    }
    found.set(key, {
      ...(isFurther(one, before) ? one : before), // which is also beyond the wider of the two ranges
      times: before.times + 1,
      from: Math.min(before.from, from),
      to: Math.max(before.to, to),
      length: before.length + one.length,
      over: before.over && one.over,
    });
  }
  const outer = (e: Excursed) => Number(e.beyond === "outer");
  return [...found.values()].sort(
    (a, b) => outer(b) - outer(a) || Number(a.over) - Number(b.over) || a.from - b.from,
  );
}

/** 18:00 of the day before, by the clocks of a zone. */
export function lastEvening(now: number, zone: string): number {
  const { year, month, day } = clockAt(now, zone);
  return timeOf(zone, year, month, day - 1, 18, 0, 0);
}

/** The address of a page that shows a time, with an hour before and after it. */
export function around(page: string, params: Record<string, string>, from: number, to: number): string {
  const time = { from: new Date(from - 3_600_000).toISOString(), to: new Date(to + 3_600_000).toISOString() };
  return `${page}?${new URLSearchParams({ ...params, ...time })}`;
}

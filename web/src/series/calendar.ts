/** A day of the calendar of coverage. */
export interface Day {
  start: number;
  end: number;
  /** Share of the day that good data speaks for; null before the series began. */
  coverage: number | null;
  /** Which column it stands in, counted in weeks, and which row, Monday being 0. */
  week: number;
  weekday: number;
}

/** Days in columns of weeks. Each start is a midnight of the zone, and weekday says which day it is there. */
export function inWeeks(
  starts: number[],
  ends: number[],
  coverage: (number | null)[],
  weekdayOf: (ms: number) => number,
): Day[] {
  let week = 0;
  return starts.map((start, i) => {
    const weekday = weekdayOf(start);
    if (i > 0 && weekday === 0) week++;
    return { start, end: ends[i] ?? start, coverage: coverage[i] ?? null, week, weekday };
  });
}

/** What may be why a day has gaps: outages that reach into it, the longest first. */
export function causesOf(
  day: { start: number; end: number },
  outages: { link: string; began: number; ended: number; reason: string }[],
): { link: string; reason: string; ms: number }[] {
  return outages
    .map((o) => ({
      link: o.link,
      reason: o.reason,
      ms: Math.min(o.ended, day.end) - Math.max(o.began, day.start),
    }))
    .filter((o) => o.ms > 0)
    .sort((a, b) => b.ms - a.ms);
}

import type { Series, Value } from "../api/client";
import { seconds } from "../time/duration";

/** How a series stands at a time. */
export type Condition = "critical" | "unusual" | "missing" | "stale" | "uncertain" | "well";

/** What asks most for a look comes first. */
export const order: Condition[] = ["critical", "unusual", "missing", "stale", "uncertain", "well"];

export const freshFor = (series: Series | undefined) => (series ? 1000 * seconds(series.fresh_for) : 60_000);

/** A value grows old while nothing comes, so this is judged by the clock and not by what was sent. */
export function conditionOf(
  value: Value,
  series: Series | undefined,
  now: number,
  uncertain: boolean,
): Condition {
  const old = now - Date.parse(value.time);
  const speaks = freshFor(series);
  if (old > 10 * speaks) return "missing";
  if (old > speaks || (value.ended && now >= Date.parse(value.ended))) return "stale";
  if (value.standing === "critical" || value.standing === "unusual") return value.standing;
  return uncertain ? "uncertain" : "well";
}

const quality = "/quality";

/** Whether a series says how good another is; that one shows it. */
export const isQuality = (path: string, all: { has: (path: string) => boolean }) =>
  path.endsWith(quality) && all.has(path.slice(0, -quality.length));

export const qualityOf = (path: string) => path + quality;

/** Series by site and station, in order. */
export function bySite(
  paths: string[],
): { site: string; stations: { station: string; paths: string[] }[] }[] {
  const sites = new Map<string, Map<string, string[]>>();
  for (const path of [...paths].sort()) {
    const levels = path.split("/");
    const site = levels[0] ?? "";
    const station = levels.slice(0, -1).join("/");
    const stations = sites.get(site) ?? new Map<string, string[]>();
    sites.set(site, stations.set(station, [...(stations.get(station) ?? []), path]));
  }
  return [...sites].map(([site, stations]) => ({
    site,
    stations: [...stations].map(([station, found]) => ({ station, paths: found })),
  }));
}

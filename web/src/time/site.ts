import type { Health } from "../api/client";

/** The zone whose clocks hang where series are: that of their site. Where the sites differ it is that
 *  of the service looked at. */
export function siteZoneOf(health: Health | undefined, paths: string[]): { zone: string; differ: boolean } {
  const own = health?.zone ?? "UTC";
  const sites = new Set(paths.map((p) => p.slice(0, p.indexOf("/"))));
  const zones = new Set([...sites].map((s) => health?.zones[s] ?? own));
  const [zone] = zones.size === 1 ? zones : [own];
  return { zone: zone ?? own, differ: zones.size > 1 };
}

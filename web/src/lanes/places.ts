/** The places that a note about series may be about: their stations, sites, and themselves. */
export function placesOf(paths: string[]): string[] {
  const stations = new Set<string>();
  const sites = new Set<string>();
  for (const p of paths) {
    const levels = p.split("/");
    if (levels.length > 2) stations.add(levels.slice(0, -1).join("/"));
    sites.add(levels[0] ?? p);
  }
  return [...stations, ...sites, ...paths];
}

import { useMemo, useState } from "react";
import type { Series, Value } from "../api/client";
import { useSeries } from "../api/hooks";
import { useLive } from "../api/useLive";
import { StationSheet } from "../parts/StationSheet";
import { useClock } from "../parts/useClock";
import { seconds } from "../duration";
import { words } from "../format";

/** Every series with its latest value, by site and station, updating by itself. */
export function NowPage() {
  const live = useLive();
  const series = useSeries();
  const clock = useClock() + live.ahead;
  const [filter, setFilter] = useState("");
  const sites = useMemo(
    () =>
      bySite(
        [...live.values.values()].filter((v) => matches(v.path, filter) && !isQuality(v.path, live.values)),
      ),
    [live.values, filter],
  );
  const uncertain = useMemo(() => doubted(live.values), [live.values]);
  const fresh = useMemo(() => freshness(series.data?.series ?? []), [series.data]);
  const stale = [...live.values.values()].filter(
    (v) => clock - Date.parse(v.time) > (fresh.get(v.path) ?? 60_000),
  );
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
        <h1 className="text-2xl font-semibold">Now</h1>
        <input
          type="search"
          aria-label="Show only series whose path contains"
          placeholder="Show only, such as oxygen"
          value={filter}
          onChange={(e) => setFilter(e.target.value)}
          className="w-64 rounded-sheet border border-rule bg-sheet px-2 py-1"
        />
        <p className="text-soft" role="status">
          {live.values.size} series, {stale.length === 0 ? "all fresh" : `${stale.length} stale`}
          {live.connected ? "" : " – connection lost, trying again"}
        </p>
      </div>
      {live.values.size === 0 && live.connected && (
        <p className="mt-8 max-w-prose">
          No reading has arrived yet. Point a device at this gateway; what is refused is listed by{" "}
          <code>nexocumula rejects</code>.
        </p>
      )}
      {sites.map(([site, stations]) => (
        <section key={site} aria-label={site} className="mt-6">
          <h2 className="border-b border-rule pb-1 text-lg">{words(site)}</h2>
          <div className="mt-3 columns-1 gap-4 sm:columns-2 lg:columns-3">
            {stations.map(([station, values]) => (
              <StationSheet
                key={station}
                station={station}
                values={values}
                clock={clock}
                freshFor={fresh}
                uncertain={uncertain}
              />
            ))}
          </div>
        </section>
      ))}
    </>
  );
}

const quality = "/quality";

/** Whether a series says how good another is; that one shows it. */
function isQuality(path: string, all: Map<string, Value>): boolean {
  return path.endsWith(quality) && all.has(path.slice(0, -quality.length));
}

/** The series whose latest reading is in doubt. */
function doubted(all: Map<string, Value>): Set<string> {
  const of = (v: Value) => v.path.slice(0, -quality.length);
  return new Set([...all.values()].filter((v) => isQuality(v.path, all) && v.state === "uncertain").map(of));
}

function matches(path: string, filter: string): boolean {
  return path.toLowerCase().includes(filter.trim().toLowerCase());
}

type Grouped = [string, [string, Value[]][]][];

function bySite(values: Value[]): Grouped {
  const sites = new Map<string, Map<string, Value[]>>();
  for (const v of values.sort((a, b) => a.path.localeCompare(b.path))) {
    const levels = v.path.split("/");
    const site = levels[0] ?? "";
    const station = levels.slice(1, -1).join("/");
    const stations = sites.get(site) ?? new Map<string, Value[]>();
    sites.set(site, stations.set(station, [...(stations.get(station) ?? []), v]));
  }
  return [...sites].map(([site, stations]) => [site, [...stations]]);
}

/** How long a reading of each series stays fresh, in ms. */
function freshness(series: Series[]): Map<string, number> {
  return new Map(series.map((s) => [s.path, 1000 * seconds(s.fresh_for)]));
}

import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { lazy, useDeferredValue, useEffect, useMemo, useRef, useState } from "react";
import type { Series } from "../api/client";
import { useCatalogue } from "../api/hooks";
import { count, words } from "../format";
import { live } from "../live/store";
import { useTick } from "../live/tick";
import { useSeriesSeen, useStanding } from "../live/useLive";
import { bySite, isQuality } from "../now/condition";
import { findings, LookFirst } from "../now/LookFirst";
import { rowsWithin, sheetHeight, StationSheet } from "../now/StationSheet";
import { search } from "../parts/Field";
import { Link } from "../parts/Link";
import { usePaper } from "../parts/paper";
import { Nothing, PageWaiting } from "../parts/Waiting";
import { useAddress } from "../router";
import { useUnits, type UnitsOf } from "../units";

const HappenedView = lazy(async () => ({ default: (await import("../now/HappenedView")).HappenedView }));

const views = [
  { view: "", name: "Present values" },
  { view: "happened", name: "What happened" },
];

/** What it is like now, or what happened since: the address says which. */
export function NowPage() {
  const shown = useAddress().searchParams.get("view") ?? "";
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-x-6">
        <h1 className="text-2xl font-semibold">Now</h1>
        <nav aria-label="Views" className="flex gap-4">
          {views.map((v) => (
            <Link
              key={v.view}
              to={v.view ? `/?view=${v.view}` : "/"}
              current={shown === v.view}
              className="border-b-2 border-transparent py-1 aria-[current]:border-ink aria-[current]:font-semibold"
            >
              {v.name}
            </Link>
          ))}
        </nav>
      </div>
      <div className="mt-3">{shown === "happened" ? <HappenedView /> : <PresentView />}</div>
    </>
  );
}

/** What needs a look first, then every series with its latest value, by site and station. */
function PresentView() {
  const seen = useSeriesSeen();
  const standing = useStanding();
  const catalogue = useCatalogue();
  const units = useUnits().of;
  const [filter, setFilter] = useState("");
  const sites = useMemo(() => {
    const wanted = filter.trim().toLowerCase().split(/\s+/);
    const paths = [...seen.values.keys()].filter(
      (p) => wanted.every((w) => p.toLowerCase().includes(w)) && !isQuality(p, seen.values),
    );
    return bySite(paths);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- the map is one, its version says that it changed
  }, [seen.version, filter]);
  const begun = useDeferredValue(true, false); // what is in sight is drawn first
  const known = catalogue !== undefined && standing !== "connecting";
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
        <input
          type="search"
          aria-label="Show only series whose path contains"
          placeholder="Show only, such as oxygen"
          value={filter}
          onChange={(e) => setFilter(e.target.value)}
          className={search}
        />
        {known && <Summary catalogue={catalogue} />}
      </div>
      {!known && <PageWaiting>Loading the latest values …</PageWaiting>}
      {known && live.values.size === 0 && standing === "live" && (
        <Nothing>
          No reading has arrived yet. Point a device at this gateway;{" "}
          <Link to="/field" className="underline">
            Field
          </Link>{" "}
          finds out what it says, and <code>nexocumula reject list</code> lists what is refused.
        </Nothing>
      )}
      {known && filter === "" && <LookFirst catalogue={catalogue} units={units} />}
      {known && filter !== "" && sites.length === 0 && <Nothing>No series contains “{filter}”.</Nothing>}
      {known &&
        sites.map((s) => (
          <SiteSheets
            key={s.site}
            site={s.site}
            stations={s.stations}
            catalogue={catalogue}
            units={units}
            begun={begun}
          />
        ))}
    </>
  );
}

/** Screen readers hear it when it changes, which is not each second. */
function Summary({ catalogue }: { catalogue: Map<string, Series> }) {
  const clock = useTick();
  const old = findings(catalogue, clock).filter(
    (f) => f.condition === "stale" || f.condition === "missing",
  ).length;
  const all = [...live.values.keys()].filter((p) => !isQuality(p, live.values)).length;
  return (
    <p className="text-soft" role="status">
      {count(all)} series, {all === 0 ? "none heard yet" : old === 0 ? "all fresh" : `${count(old)} stale`}
    </p>
  );
}

interface SiteProps {
  site: string;
  stations: { station: string; paths: string[] }[];
  catalogue: Map<string, Series>;
  units: UnitsOf;
  begun: boolean;
}

/** The stations of a site; only those in sight are drawn, so that thousands stay smooth. Paper shows all. */
function SiteSheets({ site, stations, catalogue, units, begun }: SiteProps) {
  const box = useRef<HTMLDivElement>(null);
  const paper = usePaper();
  const [{ top, wide }, setPlace] = useState(() => ({ top: 0, wide: innerWidth - 32 }));
  useEffect(() => {
    const watch = new ResizeObserver(() => {
      const e = box.current;
      if (!e) return;
      const now = { top: Math.round(e.getBoundingClientRect().top + scrollY), wide: e.clientWidth };
      setPlace((before) => (before.top === now.top && before.wide === now.wide ? before : now));
    });
    watch.observe(document.body);
    return () => watch.disconnect();
  }, []);
  const lanes = Math.max(1, Math.floor(wide / 400));
  const gap = 12;
  const sheets = useWindowVirtualizer({
    count: stations.length,
    estimateSize: (i) => sheetHeight(stations[i]?.paths.length ?? 1),
    getItemKey: (i) => stations[i]?.station ?? i,
    lanes,
    gap,
    overscan: begun ? 1 : 0,
    scrollMargin: top,
    scrollToFn: () => undefined, // nothing scrolls but people; the usual one makes the browser lay out anew
  });
  const width = `calc((100% - ${(lanes - 1) * gap}px) / ${lanes})`;
  return (
    <section aria-label={site} className="mt-6">
      <h2 className="border-b border-rule pb-1 text-lg">
        <Link to={`/boards/place?about=${encodeURIComponent(site)}`} className="target hover:underline">
          {words(site)}
        </Link>
      </h2>
      {paper && (
        <div className="mt-3 columns-2 gap-3">
          {stations.map((s) => (
            <div key={s.station} className="mb-3 break-inside-avoid">
              <StationSheet station={s.station} paths={s.paths} catalogue={catalogue} units={units} />
            </div>
          ))}
        </div>
      )}
      <div ref={box} className="relative mt-3" style={{ height: paper ? 0 : sheets.getTotalSize() }}>
        {wide > 0 &&
          !paper &&
          sheets.getVirtualItems().map((item) => {
            const s = stations[item.index];
            return (
              s && (
                <div
                  key={item.key}
                  className="absolute contain-strict"
                  style={{
                    width,
                    left: `calc((100% + ${gap}px) / ${lanes} * ${item.lane})`,
                    top: item.start - top,
                    height: item.size,
                  }}
                >
                  <StationSheet
                    station={s.station}
                    paths={begun ? s.paths : s.paths.slice(0, rowsWithin(scrollY + innerHeight - item.start))}
                    catalogue={catalogue}
                    units={units}
                  />
                </div>
              )
            );
          })}
      </div>
    </section>
  );
}

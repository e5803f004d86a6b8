import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { ask } from "../api/client";
import { has, useHealth, useSession } from "../api/hooks";
import { zoneOf } from "../board/useTime";
import { count, pathWords } from "../format";
import { linkWords } from "../links/words";
import { useClock } from "../live/useClock";
import { button } from "../parts/Field";
import { Mark } from "../parts/Mark";
import { Failed } from "../parts/Said";
import { PageWaiting } from "../parts/Waiting";
import { usePreferences } from "../preferences";
import { useAddress, useGo } from "../router";
import { length } from "../time/duration";
import { longTime, shortTime } from "../time/format";
import { isLive, readRange, spanOf, writeRange } from "../time/range";
import { dayStart, zoneText } from "../time/zone";
import { ExcursionRow } from "./ExcursionRow";
import { HappenedRange } from "./HappenedRange";
import { around, bySeries, lastEvening } from "./happened";
import { HappenedRow } from "./HappenedRow";

/** How many lines of each kind are shown before "Show all". */
const most = 20;

/** What happened in a time: excursions from the normal range, silent series, outages and new rejects. */
export function HappenedView() {
  const address = useAddress();
  const go = useGo();
  const clock = useClock(60_000);
  const zone = zoneOf(usePreferences().zone, useHealth().data?.zone ?? "UTC");
  const { range, wrong } = readRange(address.searchParams);
  const span = range ? spanOf(range, clock, zone) : { from: lastEvening(clock, zone), to: clock, end: clock };
  const query: Record<string, string> = { zone };
  if (range?.kind === "last") query.last = range.last;
  else if (range?.kind === "calendar") query.range = range.calendar;
  else if (range) {
    query.from = new Date(range.from).toISOString();
    query.to = new Date(range.to).toISOString();
  }
  const happened = useQuery({
    queryKey: ["excursions", query],
    queryFn: ({ signal }) => ask("excursions", query, signal),
    refetchInterval: 60_000,
    placeholderData: keepPreviousData,
  });
  const h = happened.data;
  const seesRejects = has(useSession().data, "engineer");
  const excursed = bySeries(h?.excursions ?? []);
  const at = (ms: number) => shortTime(ms, zone);
  const live = range === undefined || isLive(range);
  const between = (from: number, to: number, over: boolean) =>
    `${at(from)} – ${over || !live ? shortTime(to, zone, sameDay(from, to, zone)) : "now"}`;
  return (
    <div data-happened>
      <HappenedRange
        range={range}
        span={span}
        zone={zone}
        onChange={(next) => {
          const params = new URLSearchParams(address.searchParams);
          writeRange(params, next);
          go(`/?${params}`);
        }}
      />
      <p className="mt-1 text-sm text-soft">
        {longTime(span.from, zone)} to {longTime(span.to, zone)}, {zoneText(zone, span.to)}
      </p>
      {wrong && <p className="mt-3 text-bad">{wrong}</p>}
      <Failed error={happened.error} />
      {happened.isPending && <PageWaiting>Loading …</PageWaiting>}
      {h && (
        <div className={happened.isPlaceholderData ? "opacity-50" : ""}>
          <Part name="Outside the normal range" none="Every series stayed in its normal range.">
            {excursed.map((e) => (
              <ExcursionRow key={e.side + e.path} excursed={e} zone={zone} span={span} live={live}>
                {e.times === 1
                  ? between(e.from, e.to, e.over)
                  : `${e.times} times, ${between(e.from, e.to, e.over)}`}
                , {length(e.length)}
              </ExcursionRow>
            ))}
          </Part>
          <Part name="Silent series" none="No series was silent.">
            {h.silent.map((s) => {
              const [from, to] = [Date.parse(s.from), Date.parse(s.to)];
              return (
                <HappenedRow
                  key={s.path + s.from}
                  to={around("/trends", { series: s.path }, from, to)}
                  name={pathWords(s.path)}
                >
                  <span className="text-soft">
                    {between(from, to, s.over)}, {length(to - from)}
                  </span>
                  {!s.over && <Mark look="stale">{live ? "still silent" : "silent at the end"}</Mark>}
                </HappenedRow>
              );
            })}
          </Part>
          <Part name="Outages" none="No link was down.">
            {h.outages.map((o) => {
              const [from, to] = [Date.parse(o.began), o.ended ? Date.parse(o.ended) : span.to];
              return (
                <HappenedRow key={o.id} to={`/links?outage=${o.id}`} name={linkWords(o.link)}>
                  <span className="text-soft">
                    {between(from, to, o.ended !== null)}, {length(to - from)}
                    {o.reason && `: ${o.reason}`}
                  </span>
                  {o.ended === null && <Mark look="bad">still down</Mark>}
                </HappenedRow>
              );
            })}
          </Part>
          {h.rejects && (
            <Part
              name="New rejects"
              none="No rule refused anything that it had not refused in the week before."
            >
              {h.rejects.map((r) => (
                <HappenedRow
                  key={r.source + r.rule}
                  to={
                    seesRejects
                      ? `/rejects?${new URLSearchParams({ days: "7", source: r.source, rule: r.rule })}`
                      : undefined
                  }
                  name={`${r.rule}, source ${r.source}`}
                >
                  <span className="text-soft">
                    {count(r.count)} since {at(Date.parse(r.first_hour))}
                  </span>
                </HappenedRow>
              ))}
            </Part>
          )}
        </div>
      )}
    </div>
  );
}

/** The second of two times leaves out the date when it is the date of the first. */
function sameDay(from: number, to: number, zone: string) {
  return dayStart(from, zone) === dayStart(to, zone) ? { from: 0, to: 1 } : undefined;
}

function Part({ name, none, children }: { name: string; none: string; children: ReactNode[] }) {
  const [all, setAll] = useState(false);
  return (
    <section aria-label={name} className="mt-5">
      <h2 className="border-b border-rule pb-1 text-lg">
        {name}
        {children.length > 0 && <span className="text-soft"> ({count(children.length)})</span>}
      </h2>
      {children.length === 0 && <p className="mt-2 text-soft">{none}</p>}
      <ul className="mt-2 flex flex-col gap-1">{all ? children : children.slice(0, most)}</ul>
      {children.length > most && !all && (
        <button type="button" className={`${button} mt-2`} onClick={() => setAll(true)}>
          Show all {count(children.length)}
        </button>
      )}
    </section>
  );
}

import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { ask } from "../api/client";
import { useLinkHistory } from "../api/hooks";
import { percent } from "../format";
import { linkWords } from "../links/words";
import { Link } from "../parts/Link";
import { Failed } from "../parts/Said";
import { length } from "../time/duration";
import { date } from "../time/format";
import { clockAt } from "../time/zone";
import { causesOf, inWeeks } from "./calendar";
import { serviceNow } from "../time/clock";

const mostCauses = 2; // listed of a day
const size = 14;
const weekdays = ["Mon", "", "Wed", "", "Fri", "", "Sun"];
const poor = 0.95; // what is less covered is listed as a gap

/** A year at a glance: how much of each day good data speaks for, and why not more where that is known. */
export function CoverageYear({ path, zone }: { path: string; zone: string }) {
  const [picked, setPicked] = useState<number | null>(null);
  const found = useQuery({
    queryKey: ["coverage-year", path, zone],
    queryFn: () => ask("windows", { select: path, last: "1y", width: "1d", stats: "coverage,count", zone }),
    staleTime: 300_000,
  });
  const links = useLinkHistory({ last: "1y" });
  const days = useMemo(() => {
    const answer = found.data;
    const one = answer?.series[0];
    if (!answer || !one) return [];
    const first = one.values.count?.findIndex((n) => (n ?? 0) > 0) ?? -1;
    return inWeeks(
      answer.starts.map((t) => Date.parse(t)),
      answer.ends.map((t) => Date.parse(t)),
      (one.values.coverage ?? []).map((c, i) => (first < 0 || i < first ? null : (c ?? 0))),
      (ms) => {
        const c = clockAt(ms, zone);
        return (new Date(Date.UTC(c.year, c.month - 1, c.day)).getUTCDay() + 6) % 7;
      },
    );
  }, [found.data, zone]);
  const site = path.split("/")[0];
  const outages = useMemo(
    () =>
      (links.data?.links ?? [])
        .filter(
          (l) => !l.link.startsWith("to ") && (!l.link.startsWith("from ") || l.link === `from ${site}`),
        )
        .flatMap((l) =>
          l.outages.map((o) => ({
            link: l.link,
            id: o.id,
            reason: o.reason,
            began: Date.parse(o.began),
            ended: o.ended ? Date.parse(o.ended) : serviceNow(),
          })),
        ),
    [links.data, site],
  );
  const today = days[days.length - 1];
  const firstDay = days.find((d) => d.coverage !== null); // it began in the middle of it
  const gaps = days
    .filter((d) => d !== today && d !== firstDay && d.coverage !== null && d.coverage < poor)
    .reverse();
  const listed = picked === null ? gaps.slice(0, 6) : days.filter((d) => d.start === picked);
  const weeks = (today?.week ?? 0) + 1;
  return (
    <>
      <Failed error={found.error} />
      <div className="overflow-x-auto" tabIndex={0} role="group" aria-label="Days of the last year">
        <svg
          width={34 + weeks * size}
          height={18 + 7 * size}
          viewBox={`0 0 ${34 + weeks * size} ${18 + 7 * size}`}
          className="print:h-auto print:w-full"
          role="img"
          aria-label={`Coverage of ${days.filter((d) => d.coverage !== null).length} days; ${gaps.length} of them below ${percent(poor, 0)}`}
          data-year
        >
          {weekdays.map((w, i) => (
            <text key={i} x={0} y={18 + i * size + 11} fontSize="11" fill="var(--soft)">
              {w}
            </text>
          ))}
          {days.map((d) => {
            const c = clockAt(d.start, zone);
            const x = 32 + d.week * size;
            return (
              <g key={d.start}>
                {c.day === 1 && (
                  <text x={x} y={11} fontSize="11" fill="var(--soft)">
                    {new Intl.DateTimeFormat(undefined, { month: "short", timeZone: zone }).format(d.start)}
                  </text>
                )}
                <rect
                  x={x}
                  y={18 + d.weekday * size}
                  width={size - 2}
                  height={size - 2}
                  fill={d.coverage === null ? "none" : d.coverage === 0 ? "url(#hatch)" : "var(--water)"}
                  fillOpacity={d.coverage ? 0.15 + 0.85 * d.coverage ** 2 : 1}
                  stroke={picked === d.start ? "var(--ink)" : d.coverage === null ? "var(--rule)" : "none"}
                  onClick={() => setPicked(picked === d.start ? null : d.start)}
                  className="cursor-pointer"
                >
                  <title>{`${date(d.start, zone)}: ${d.coverage === null ? "before it began" : percent(d.coverage)}`}</title>
                </rect>
              </g>
            );
          })}
        </svg>
      </div>
      {days.length > 0 && listed.length === 0 && (
        <p className="text-sm text-soft">No day since it began is covered less than {percent(poor, 0)}.</p>
      )}
      <ul className="mt-1 text-sm">
        {listed.map((d) => {
          const causes = causesOf(d, outages);
          return (
            <li key={d.start} data-gap>
              {date(d.start, zone)}: {d.coverage === null ? "before it began" : percent(d.coverage)}
              {causes.length === 0 && d.coverage !== null && d.coverage < poor && (
                <span className="text-soft">, no cause is known</span>
              )}
              {causes.slice(0, mostCauses).map((o) => (
                <span key={o.link + o.ms} className="text-soft">
                  , {linkWords(o.link)} down {length(o.ms)}: {o.reason}
                </span>
              ))}
              {causes.length > mostCauses && (
                <span className="text-soft">, and {causes.length - mostCauses} more outages</span>
              )}
            </li>
          );
        })}
      </ul>
      {picked === null && gaps.length > listed.length && (
        <p className="text-sm text-soft">
          and {gaps.length - listed.length} more days; a click on one tells.{" "}
          <Link to="/links" className="underline">
            Links
          </Link>{" "}
          has every outage.
        </p>
      )}
    </>
  );
}

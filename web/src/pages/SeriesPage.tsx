import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { useSearchParams } from "react-router";
import { ask, type Series } from "../api/client";
import { may, useCatalogue, useHealth, useSession } from "../api/hooks";
import { zoneOf } from "../board/useTime";
import { decimalsOfSeries, fixed, nothing, number, words } from "../format";
import { useLatest, useStanding } from "../live/useLive";
import { useClock } from "../live/useClock";
import { conditionOf, qualityOf } from "../now/condition";
import { ConditionMark, normalText } from "../now/SeriesRow";
import { linkButton } from "../parts/Field";
import { Link } from "../parts/Link";
import { Failed } from "../parts/Said";
import { cell, row, Table } from "../parts/Table";
import { Nothing, PageWaiting } from "../parts/Waiting";
import { usePreferences } from "../preferences";
import { CoverageYear } from "../series/CoverageYear";
import { Distribution } from "../series/Distribution";
import { LatestReadings } from "../series/LatestReadings";
import { MeanDay } from "../series/MeanDay";
import { RejectsByRule } from "../series/RejectsByRule";
import { longTime } from "../time/format";
import { siteZoneOf } from "../time/site";
import { spoken } from "../time/duration";
import { convert, useUnits } from "../units";

/** All about one series. */
export function SeriesPage() {
  const [params] = useSearchParams();
  const path = params.get("path") ?? "";
  const catalogue = useCatalogue();
  const series = catalogue?.get(path);
  useEffect(() => {
    document.title = `${path} – Nexocumula`;
  }, [path]);
  if (!catalogue) return <PageWaiting>Loading the series …</PageWaiting>;
  if (!series)
    return (
      <Nothing>
        There is no series <code>{path}</code> here.{" "}
        <Link to="/" className="underline">
          Now
        </Link>{" "}
        lists those there are; Ctrl K finds them.
      </Nothing>
    );
  return <Shown series={series} />;
}

function Shown({ series }: { series: Series }) {
  const { path } = series;
  const health = useHealth().data;
  const session = useSession().data;
  const zone = zoneOf(usePreferences().zone, siteZoneOf(health, [path]).zone);
  const station = path.slice(0, path.lastIndexOf("/"));
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-2">
        <h1 className="text-2xl font-semibold break-all">{path}</h1>
        <Link to={`/trends?series=${encodeURIComponent(path)}`} className={linkButton}>
          Trend
        </Link>
        <Link to={`/boards/place?about=${encodeURIComponent(station)}`} className={linkButton}>
          Board of {words(station.split("/").pop() ?? station)}
        </Link>
      </div>
      <div className="mt-4 grid gap-x-6 gap-y-6 desk:grid-cols-3">
        <Part title="At present">
          <Present series={series} zone={zone} />
          <LatestReadings series={series} zone={zone} collects={health?.gateway != null} />
        </Part>
        <Part title="Definition" wide>
          <Definition series={series} zone={zone} />
          <VersionsOf series={series} zone={zone} />
        </Part>
        <Part title="Coverage of the last year" all>
          <CoverageYear path={path} zone={zone} />
        </Part>
        {series.kind === "gauge" && (
          <Part title="How its values are spread, last 7 days">
            <Distribution series={series} />
          </Part>
        )}
        {(series.kind === "gauge" || series.kind === "counter") && (
          <Part title="Mean day, last 4 weeks" wide={series.kind === "gauge"} all={series.kind !== "gauge"}>
            <MeanDay series={series} zone={zone} />
          </Part>
        )}
        {may(session, "engineer") && health?.gateway != null && (
          <Part title="Refused, by rule" all>
            <RejectsByRule path={path} zone={zone} />
          </Part>
        )}
      </div>
    </>
  );
}

function Part({
  title,
  wide,
  all,
  children,
}: {
  title: string;
  wide?: boolean;
  all?: boolean;
  children: React.ReactNode;
}) {
  const columns = all ? "desk:col-span-3" : wide ? "desk:col-span-2" : "";
  return (
    <section aria-label={title} className={`min-w-0 ${columns}`}>
      <h2 className="border-b border-rule pb-1 text-lg">{title}</h2>
      <div className="mt-2">{children}</div>
    </section>
  );
}

function Present({ series, zone }: { series: Series; zone: string }) {
  const standing = useStanding();
  const value = useLatest(series.path);
  const quality = useLatest(qualityOf(series.path));
  const clock = useClock(2000);
  const units = useUnits().of;
  if (!value)
    return (
      <p className="text-soft">{standing === "live" ? "Nothing was heard yet." : "Loading its value …"}</p>
    );
  const to = units(series.unit);
  const condition = conditionOf(value, series, clock, quality?.state === "uncertain");
  return (
    <div data-present>
      <p className="text-3xl font-semibold">
        {value.state ||
          fixed(
            convert(value.value, to),
            Math.max(decimalsOfSeries(value.path, value.value), to.symbol ? 1 : 0),
          )}{" "}
        <span className="text-lg font-normal text-soft">{value.state ? "" : to.written}</span>
      </p>
      <p className="text-sm text-soft">
        {longTime(Date.parse(value.time), zone, true)}{" "}
        <ConditionMark condition={condition} old={clock - Date.parse(value.time)} />
        {normalText(series, units)}
      </p>
    </div>
  );
}

const range = (b: (number | null)[] | null): string =>
  b ? `${b[0] == null ? "…" : number(b[0])} to ${b[1] == null ? "…" : number(b[1])}` : nothing;

function Definition({ series, zone }: { series: Series; zone: string }) {
  const units = useUnits().of;
  const facts: [string, string][] = [
    ["kind", series.kind],
    ["unit", series.unit ? `${units(series.unit).written || series.unit} (${series.unit})` : nothing],
    [
      "expected",
      series.every
        ? `every ${spoken(series.every)}${series.every_learned ? ", as learned" : ""}`
        : "not known",
    ],
    ["a reading speaks for", spoken(series.fresh_for)],
    ["source", series.source || "known at its gateway"],
    ...(series.place ? [["topic or register", series.place] as [string, string]] : []),
    ["normal", range(series.normal.inner)],
    ["acceptable", range(series.normal.outer)],
    ["summaries", series.tiers.map(spoken).join(", ") || nothing],
    ["calibration", series.calibration || "as it comes"],
    ["first heard", series.first_seen ? longTime(Date.parse(series.first_seen), zone) : "never"],
  ];
  if (series.thinning)
    facts.push([
      "thinned",
      `${series.thinning.rule}: ${series.thinning.kept} of ${series.thinning.arrived} kept`,
    ]);
  if (Object.keys(series.states).length > 0)
    facts.push([
      "states",
      Object.entries(series.states)
        .map(([n, v]) => `${n} = ${v}`)
        .join(", "),
    ]);
  for (const [k, v] of Object.entries(series.labels)) facts.push([k, v]);
  return (
    <dl className="grid grid-cols-2 gap-x-6 gap-y-2 sm:grid-cols-3">
      {facts.map(([name, text]) => (
        <div key={name}>
          <dt className="text-sm text-soft">{words(name)}</dt>
          <dd>{text}</dd>
        </div>
      ))}
    </dl>
  );
}

function VersionsOf({ series, zone }: { series: Series; zone: string }) {
  const versions = useQuery({
    queryKey: ["versions", series.path],
    queryFn: () => ask("series/versions", { path: series.path }),
  });
  const all = versions.data?.versions ?? [];
  if (versions.error) return <Failed error={versions.error} />;
  if (all.length < 2) return <p className="mt-3 text-sm text-soft">The definition has never changed.</p>;
  return (
    <Table head={["since", "unit", "calibration", "normal", "interval"]}>
      {all.map((v) => (
        <tr key={v.since ?? "first"} className={row}>
          <td className={cell}>{v.since ? longTime(Date.parse(v.since), zone) : "the beginning"}</td>
          <td className={cell}>{v.unit}</td>
          <td className={cell}>{v.calibration || "as it comes"}</td>
          <td className={cell}>{range(v.normal.inner)}</td>
          <td className={cell}>{v.every ? spoken(v.every) : nothing}</td>
        </tr>
      ))}
    </Table>
  );
}

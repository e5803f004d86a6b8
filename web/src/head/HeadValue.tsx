import type { BoardHead, Series } from "../api/client";
import { age, decimalsOfSeries, fixed, last, stateName, words } from "../format";
import { useView } from "../lanes/view";
import { useTick } from "../live/tick";
import { useLatest } from "../live/useLive";
import { conditionOf } from "../now/condition";
import { Link } from "../parts/Link";
import { convert } from "../units";
import { StaffGauge } from "./StaffGauge";
import { Spark } from "./Spark";
import { useDay } from "./useDay";
import type { Level } from "./gauge";

/** The present value of a series, large, with its last day. */
export function HeadValue({ head, series, titled }: { head: BoardHead; series: Series; titled: string }) {
  const view = useView();
  const value = useLatest(series.path);
  const clock = useTick();
  const day = useDay(series.path);
  const to = view.units(series.unit);
  const isState = series.kind === "state";
  const seen = value?.value ?? null;
  const shown = convert(seen, to);
  const condition = value && conditionOf(value, series, clock, false);
  const old = condition === "stale" || condition === "missing";
  const bounds = (b: (number | null)[] | null): [number | null, number | null] | undefined =>
    b ? [convert(b[0], to), convert(b[1], to)] : undefined;
  const level: Level = {
    present: shown,
    low: convert(day?.whole.min, to),
    high: convert(day?.whole.max, to),
    inner: bounds(series.normal.inner),
    outer: bounds(series.normal.outer),
  };
  const since = value ? clock - Date.parse(value.time) : 0;
  return (
    <article
      aria-label={series.path}
      data-head={series.path}
      className="flex min-w-40 break-inside-avoid items-stretch gap-2 border-r border-rule px-3 py-2 last:border-r-0"
    >
      <div className="min-w-0">
        <h2 className="truncate text-sm text-soft">
          <Link
            to={`/series?path=${encodeURIComponent(series.path)}`}
            className="target max-w-full truncate hover:underline"
          >
            {head.title || titled}
          </Link>
        </h2>
        <p className={`flex items-baseline gap-1 whitespace-nowrap ${old ? "text-soft" : ""}`}>
          <span className="text-2xl font-semibold">
            {isState
              ? stateName(series.states, seen)
              : fixed(shown, Math.max(decimalsOfSeries(series.path, seen), to.symbol ? 1 : 0))}
          </span>
          {!isState && <span className="text-soft">{to.written}</span>}
        </p>
        {value === undefined ? (
          <p className="text-xs text-soft">loading</p>
        ) : old ? (
          <p className="w-fit rounded-sheet bg-stale-wash px-1 text-xs text-stale">
            {condition}, {age(since)} old
          </p>
        ) : condition === "critical" || condition === "unusual" ? (
          <p
            className={`w-fit rounded-sheet px-1 text-xs ${condition === "critical" ? "bg-bad-wash text-bad" : "bg-stale-wash text-stale"}`}
          >
            {condition}
          </p>
        ) : (
          <p className="text-xs text-soft">
            {series.normal.inner || series.normal.outer ? "normal" : `${age(since)} ago`}
          </p>
        )}
        {!isState && day && <Spark values={day.values.mean ?? []} width={120} height={30} />}
      </div>
      {head.gauge && !isState && (
        <StaffGauge level={level} label={head.title || titled} unit={to.written} height={104} stale={old} />
      )}
    </article>
  );
}

export const titleOfHead = (path: string) =>
  words(`${path.split("/").slice(-2, -1)[0] ?? ""} ${last(path)}`.trim());

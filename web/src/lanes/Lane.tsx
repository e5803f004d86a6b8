import { useEffect, useMemo, useRef, useState } from "react";
import type { BoardLane } from "../api/client";
import { percent } from "../format";
import { Failed } from "../parts/Said";
import { Waiting } from "../parts/Waiting";
import { spoken } from "../time/duration";
import { axesOf, leftOut, seriesOf } from "./axes";
import { AxisMarks } from "./AxisMarks";
import type { Normal } from "./chartOptions";
import { Drawn } from "./Drawn";
import { HeightHandle } from "./HeightHandle";
import { heightOf, kindOf } from "./kinds";
import { LaneMenu } from "./LaneMenu";
import { Legend } from "./Legend";
import { NotesRow } from "./NotesRow";
import { PlotArea } from "./PlotArea";
import { FetchReadings } from "./FetchReadings";
import { detailFits, readingsFit, ReadingsChart } from "./ReadingsChart";
import type { Row } from "./rows";
import { usePaper } from "../parts/paper";
import { useWide } from "../parts/useWide";
import { TextRow } from "./TextRow";
import { useRows } from "./useRows";
import { high } from "../wall/fit";
import { WallLegend } from "../wall/WallLegend";
import { serviceNow } from "../time/clock";
import { isLive } from "../time/range";
import { useView, type View } from "./view";

interface Props {
  lane: BoardLane;
  index: number;
  /** Of lanes that are all kept, so that they can be moved. */
  count: number;
  places: string[];
  onChange?: (lane: BoardLane) => void;
  onMove?: (to: number) => void;
  onRemove?: () => void;
  onNote?: (ms: number, series: string[]) => void;
  /** What the lane is dragged by. */
  handle?: React.ReactNode;
}

/** A band of the page below the time axis, with its title and what it says in figures. */
export function Lane(given: Props) {
  const { places, onNote } = given;
  // How high it is while its edge is dragged.
  const [dragged, setDragged] = useState<number | null>(null);
  const lane = useMemo(
    () => (dragged === null ? given.lane : { ...given.lane, height: dragged }),
    [given.lane, dragged],
  );
  const title = useTitle(lane);
  const props = { ...given, lane, onDrag: setDragged };
  if (lane.kind === "text")
    return (
      <Frame {...props} title={title} caption="">
        <TextRow text={lane.text ?? ""} />
      </Frame>
    );
  if (lane.kind === "notes")
    return (
      <Frame {...props} title={title} caption="" height={heightOf(lane)}>
        <PlotArea height={heightOf(lane)} onPick={onNote && ((ms) => onNote(ms, []))}>
          <NotesRow lane={lane} height={heightOf(lane)} places={places} />
        </PlotArea>
      </Frame>
    );
  return <SeriesLane {...props} title={title} />;
}

function useTitle(lane: BoardLane): string {
  const view = useView();
  return useMemo(() => titleOf(lane, view), [lane, view]);
}

/** What a lane is called: as somebody wrote, or by the quantities in it. */
export function titleOf(lane: BoardLane, view: Pick<View, "catalogue" | "about">): string {
  if (lane.title) return lane.title;
  if (lane.calculate) return lane.calculate.name;
  const all = seriesOf(lane, view.catalogue, view.about);
  const quantities = [
    ...new Set(all.map((s) => s.path.slice(s.path.lastIndexOf("/") + 1).replaceAll("_", " "))),
  ];
  const stations = [...new Set(all.map((s) => s.path.slice(0, s.path.lastIndexOf("/"))))];
  const what = quantities.slice(0, 3).join(", ") || (lane.series ?? []).join(", ");
  const full = stations.length === 1 ? `${what}, ${(stations[0] ?? "").replaceAll("/", ", ")}` : what;
  if (lane.difference) return `${full}, the first less the second`;
  const title = kindOf(lane).title(what, full);
  return title.charAt(0).toUpperCase() + title.slice(1);
}

const before = (loading: boolean) => (loading ? "from before: loading" : "from before: no answer");

function SeriesLane(props: Dragged & { title: string }) {
  const { lane } = props;
  const view = useView();
  const [fetched, setFetched] = useState("");
  const detail = detailFits(lane, view) && !view.wall;
  const here = JSON.stringify(view.range) === fetched;
  const following = useRef<number>(undefined);
  useEffect(() => () => clearTimeout(following.current), []);
  const show = (until: number | null) => {
    setFetched(JSON.stringify(view.range));
    clearTimeout(following.current);
    if (until) following.current = window.setTimeout(() => setFetched(""), until - serviceNow());
  };
  const fits = readingsFit(lane, view) || (detail && here);
  const { rows, loading, stale, errors, placeless } = useRows(lane, view);
  const [single, setSingle] = useState<string | null>(null);
  const [rejects, setRejects] = useState(false);
  const height = heightOf(lane, rows.filter((r) => !r.shift).length);
  const axes = useMemo(() => axesOf(lane, view.catalogue, view.units, view.about), [lane, view]);
  const missing = useMemo(() => leftOut(lane, view.catalogue, view.units, view.about), [lane, view]);
  const normal = useMemo(() => normalOf(lane, view), [lane, view]);
  const known = rows.some((r) => r.empty.includes(false));
  return (
    <Frame
      {...props}
      height={height}
      caption={stale ? before(loading) : fits ? "the readings themselves" : caption(rows)}
      legend={
        view.wall ? (
          <WallLegend lane={lane} rows={rows} height={height + high.title} />
        ) : (
          <Legend lane={lane} rows={rows} single={single} onSingle={setSingle} />
        )
      }
      rows={rows}
      rejects={fits ? { shown: rejects, show: setRejects } : undefined}
      stale={stale}
    >
      {errors.map((e) => (
        <Failed key={e.message} error={e} />
      ))}
      {detail && !fits && !placeless && <FetchReadings lane={lane} live={isLive(view.range)} onHere={show} />}
      {placeless && <p className="px-1 py-4 text-soft">Choose a place above to see this lane.</p>}
      {missing.length > 0 && (
        <p className="px-1 text-sm text-stale" data-left-out>
          Not drawn, as this lane has no axis left for it: what is in {missing.join(", ")}. Put it in another
          lane.
        </p>
      )}
      <PlotArea height={height} dimmed={stale}>
        {fits ? (
          <ReadingsChart
            lane={lane}
            axes={axes}
            height={height}
            single={single}
            rejects={rejects}
            normal={normal}
          />
        ) : (
          <Drawn lane={lane} rows={rows} axes={axes} height={height} single={single} normal={normal} />
        )}
        {loading && rows.length === 0 && <Waiting height={height} />}
        {!loading && !known && errors.length === 0 && !placeless && (
          <p className="absolute inset-0 grid place-items-center text-soft">No data in this range.</p>
        )}
      </PlotArea>
    </Frame>
  );
}

/** The normal range of a lane's series, if all have the same, in the unit shown. */
function normalOf(lane: BoardLane, view: View): Normal | undefined {
  if (!kindOf(lane).detailed || lane.difference || lane.calculate) return undefined;
  const all = seriesOf(lane, view.catalogue, view.about);
  const first = all[0];
  if (
    !first ||
    all.some((s) => s.unit !== first.unit || JSON.stringify(s.normal) !== JSON.stringify(first.normal))
  )
    return undefined;
  const to = view.units(first.unit);
  const end = (v: number | null | undefined) =>
    v === null || v === undefined ? null : v * to.scale + to.offset;
  const bounds = (b: (number | null)[] | null | undefined): [number | null, number | null] | undefined =>
    b ? [end(b[0]), end(b[1])] : undefined;
  return { inner: bounds(first.normal.inner), outer: bounds(first.normal.outer) };
}

/** What a lane was drawn from: the windows, what they were computed from, and their coverage. */
function caption(rows: Row[]): string {
  const own = rows.filter((r) => !r.shift);
  const first = own[0];
  if (!first) return "";
  const tiers = [
    ...new Set(own.map((r) => (r.tier === "readings" ? "the readings" : `${spoken(r.tier)} summaries`))),
  ];
  const known = own.map((r) => r.coverage).filter((c) => c !== null);
  const least = known.length > 0 ? Math.min(...known) : null;
  return `${spoken(first.width)} windows from ${tiers.join(" and ")}${least === null ? "" : `, coverage ${own.length > 1 ? "at least " : ""}${percent(least, 0)}`}`;
}

interface Dragged extends Props {
  onDrag: (height: number | null) => void;
}

interface FrameProps extends Dragged {
  title: string;
  /** None: as high as what is in it. */
  height?: number;
  caption: string;
  legend?: React.ReactNode;
  rows?: Row[];
  rejects?: { shown: boolean; show: (shown: boolean) => void };
  stale?: boolean;
  children: React.ReactNode;
}

function Frame(props: FrameProps) {
  const { lane, title, caption, legend, stale, handle, height, onChange, children } = props;
  const { wall } = useView();
  const wide = useWide();
  const beside = wall ? wall.legend > 0 : wide;
  const paper = usePaper(); // on which nothing can be opened
  return (
    <div
      role="group"
      aria-label={title || kindOf(lane).name}
      data-lane={lane.kind}
      data-index={props.index}
      aria-busy={stale}
      className={`grid break-inside-avoid border-b border-rule bg-sheet ${wall ? "h-full" : "desk:grid-cols-[minmax(0,1fr)_20rem]"}`}
      style={wall && { gridTemplateColumns: `minmax(0,1fr) ${wall.legend}px` }}
    >
      <div className="relative min-w-0" data-column>
        <div className="flex items-baseline gap-2 px-1 pt-1">
          {handle}
          {title && <h2 className="min-w-0 truncate text-sm font-semibold">{title}</h2>}
          {caption && <p className="hidden min-w-0 truncate text-xs text-soft sm:block">{caption}</p>}
          {!wall && (
            <span className="ml-auto">
              <LaneMenu {...props} />
            </span>
          )}
        </div>
        {paper && height !== undefined && <AxisMarks height={24} />}
        {children}
        {onChange && height !== undefined && (
          <HeightHandle
            name={title || kindOf(lane).name}
            height={height}
            onDrag={props.onDrag}
            onKeep={(h) => onChange({ ...lane, height: h })}
          />
        )}
      </div>
      {legend &&
        (beside || paper ? (
          <div className="min-w-0 border-l border-rule px-1 py-1 print:border-t print:border-l-0">
            {legend}
          </div>
        ) : (
          !wall && (
            <details className="border-t border-rule px-2 py-1">
              <summary className="cursor-pointer py-1 text-sm text-soft">In figures</summary>
              {legend}
            </details>
          )
        ))}
    </div>
  );
}

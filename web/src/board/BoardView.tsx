import {
  closestCenter,
  DndContext,
  KeyboardSensor,
  PointerSensor,
  useSensor,
  useSensors,
  type DragEndEvent,
} from "@dnd-kit/core";
import {
  SortableContext,
  sortableKeyboardCoordinates,
  useSortable,
  verticalListSortingStrategy,
} from "@dnd-kit/sortable";
import { CSS } from "@dnd-kit/utilities";
import { GripVertical } from "lucide-react";
import { useCallback, useMemo, useState, type ReactNode } from "react";
import type { Board, BoardLane } from "../api/client";
import { has, useCatalogue, useHealth, useSession } from "../api/hooks";
import { Head } from "../head/Head";
import { axesOf, margins, seriesOf } from "../lanes/axes";
import { Lane } from "../lanes/Lane";
import { NoteDialog } from "../lanes/NoteDialog";
import { placesOf } from "../lanes/places";
import { RangeBar } from "../lanes/RangeBar";
import { TimeAxis } from "../lanes/TimeAxis";
import { refreshEvery } from "../lanes/useRows";
import { ViewContext, type View } from "../lanes/view";
import { useClock } from "../live/useClock";
import { Failed } from "../parts/Said";
import { PageWaiting } from "../parts/Waiting";
import { useWidth } from "../parts/useWidth";
import { spoken } from "../time/duration";
import { clamped, fittingWidth, isLive, spanOf } from "../time/range";
import { siteZoneOf } from "../time/site";
import { zoneText } from "../time/zone";
import { useUnits } from "../units";
import { movedTo } from "./board";
import { useTime, zoneOf } from "./useTime";

interface Props {
  board: Board;
  about?: string;
  /** Without it the board is only looked at. */
  onChange?: (board: Board) => void;
  /** Without the bar above, as on a wall. */
  bare?: boolean;
  children?: ReactNode;
}

const mostWindows = 400;

/** A head and lanes below one time axis. */
export function BoardView({ board, about, onChange, bare = false, children }: Props) {
  const catalogue = useCatalogue();
  const { data: health, isPending: zoneless } = useHealth();
  const session = useSession().data;
  const units = useUnits();
  const { choice, wrong, change, zoomBack } = useTime(board);
  const lanes = useMemo(() => board.lanes ?? [], [board.lanes]);
  const paths = useMemo(
    () =>
      catalogue ? [...new Set(lanes.flatMap((l) => seriesOf(l, catalogue, about)).map((s) => s.path))] : [],
    [lanes, catalogue, about],
  );
  const site = useMemo(() => siteZoneOf(health, paths), [health, paths]);
  const zone = zoneOf(choice.zone, site.zone);
  const live = isLive(choice.range);
  const [box, px] = useWidth(catalogue !== undefined);

  const rough = spanOf(choice.range, 0, "UTC");
  const now = useClock(
    live ? Math.min(10_000, refreshEvery(choice.width || fittingWidth(rough, mostWindows))) : 3_600_000,
  );
  const span = useMemo(() => spanOf(choice.range, now, zone), [choice.range, now, zone]);
  const width = choice.width || fittingWidth(span, px > 0 && px < 600 ? mostWindows / 2 : mostWindows);
  const axes = useMemo(
    () => (catalogue ? lanes.map((l) => axesOf(l, catalogue, units.of, about)) : []),
    [lanes, catalogue, units.of, about],
  );
  const { left, right } = margins(
    axes,
    px,
    lanes.some((l) => l.kind === "states" || l.kind === "coverage"),
  );
  const zoom = useCallback(
    (from: number, to: number) => change({ range: clamped(from, to) }, true),
    [change],
  );
  const collects = health?.gateway != null;
  const view = useMemo<View | null>(
    () =>
      catalogue && !zoneless // else all would be asked for twice
        ? {
            range: choice.range,
            span,
            zone,
            width,
            hours: choice.hours,
            compare: choice.compare,
            about,
            px,
            left,
            right,
            catalogue,
            units: units.of,
            collects,
            zoom,
          }
        : null,
    [catalogue, zoneless, choice, span, zone, width, about, px, left, right, units.of, collects, zoom],
  );
  const places = useMemo(() => [...new Set(paths.map((p) => p.slice(0, p.lastIndexOf("/"))))], [paths]);
  const [note, setNote] = useState<{ at: number; first: string[] } | null>(null);
  const mayNote = has(session, "operator");
  const pin = mayNote ? (at: number, first: string[] = []) => setNote({ at, first }) : undefined;

  return (
    <>
      {!bare && (
        <RangeBar
          choice={choice}
          span={span}
          zone={zone}
          siteZone={site.zone}
          sitesDiffer={site.differ}
          width={width}
          onChange={change}
          onBack={zoomBack}
        />
      )}
      {wrong && <Failed error={new Error(`${wrong} The page shows ${rangeWords(live)} instead.`)} />}
      {children}
      {!view && <PageWaiting>Loading the list of series …</PageWaiting>}
      {view && (
        <ViewContext.Provider value={view}>
          <div className="rounded-sheet border border-rule print:border-0">
            <Head head={board.head ?? []} />
            <div className="sticky top-0 z-10 grid print:invisible print:h-0 desk:grid-cols-[minmax(0,1fr)_20rem]">
              <div ref={box} className="min-w-0">
                <TimeAxis onRange={(range) => change({ range })} onNote={pin} />
              </div>
              <div className="hidden border-y border-l border-rule bg-paper desk:block" />
            </div>
            {px > 0 && <Lanes board={board} lanes={lanes} places={places} onChange={onChange} onNote={pin} />}
          </div>
          <p className="mt-1 text-xs text-soft" data-says>
            {zoneText(zone, span.to)} · {spoken(width)} windows{choice.hours && ` · only ${choice.hours}`}
            {choice.compare && ` · beside the same ${spoken(choice.compare)} earlier`} · {health?.site ?? ""}
          </p>
          {note && (
            <NoteDialog
              at={note.at}
              zone={zone}
              places={[
                ...new Set([
                  ...note.first.flatMap((p) => [p]),
                  ...(about ? [about] : []),
                  ...placesOf(paths),
                ]),
              ]}
              onClose={() => setNote(null)}
            />
          )}
        </ViewContext.Provider>
      )}
    </>
  );
}

const rangeWords = (live: boolean) => (live ? "the present" : "its own range");

interface LanesProps {
  board: Board;
  lanes: BoardLane[];
  places: string[];
  onChange?: (board: Board) => void;
  onNote?: (ms: number, series?: string[]) => void;
}

/** The lanes, which can be dragged into another order, by keyboard too. */
function Lanes({ board, lanes, places, onChange, onNote }: LanesProps) {
  const sensors = useSensors(
    useSensor(PointerSensor, { activationConstraint: { distance: 5 } }),
    useSensor(KeyboardSensor, { coordinateGetter: sortableKeyboardCoordinates }),
  );
  const ids = lanes.map((_, i) => `lane-${i}`);
  const set = (next: BoardLane[]) => onChange?.({ ...board, lanes: next });
  const dropped = (e: DragEndEvent) => {
    const [from, to] = [ids.indexOf(String(e.active.id)), ids.indexOf(String(e.over?.id))];
    if (from >= 0 && to >= 0 && from !== to) set(movedTo(lanes, from, to));
  };
  const own = lanes.some((l) => l.kind === "notes");
  return (
    <DndContext sensors={sensors} collisionDetection={closestCenter} onDragEnd={dropped}>
      <SortableContext items={ids} strategy={verticalListSortingStrategy}>
        {lanes.map((lane, i) => (
          <Sortable key={ids[i]} id={ids[i] ?? ""} fixed={!onChange}>
            {(handle) => (
              <Lane
                lane={lane}
                index={i}
                count={lanes.length}
                places={places}
                handle={handle}
                onNote={onNote}
                onChange={onChange && ((changed) => set(lanes.map((l, k) => (k === i ? changed : l))))}
                onMove={onChange && ((to) => set(movedTo(lanes, i, to)))}
                onRemove={onChange && (() => set(lanes.filter((_, k) => k !== i)))}
              />
            )}
          </Sortable>
        ))}
      </SortableContext>
      {!own && lanes.length > 0 && (
        <Lane
          lane={{ kind: "notes" }}
          index={lanes.length}
          count={lanes.length}
          places={places}
          onNote={onNote}
        />
      )}
    </DndContext>
  );
}

function Sortable({
  id,
  fixed,
  children,
}: {
  id: string;
  fixed: boolean;
  children: (handle: ReactNode) => ReactNode;
}) {
  const { attributes, listeners, setNodeRef, transform, transition, isDragging } = useSortable({
    id,
    disabled: fixed,
  });
  return (
    <div
      ref={setNodeRef}
      style={{ transform: CSS.Translate.toString(transform), transition }}
      className={isDragging ? "relative z-20 opacity-80 shadow-lg" : ""}
    >
      {children(
        fixed ? null : (
          <button
            type="button"
            {...attributes}
            {...listeners}
            aria-label="Drag the lane; or Space, then the arrow keys"
            className="cursor-grab touch-none self-center text-soft print:hidden"
          >
            <GripVertical size={14} aria-hidden />
          </button>
        ),
      )}
    </div>
  );
}

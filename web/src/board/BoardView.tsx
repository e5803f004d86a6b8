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
import { useMemo, useState, type ReactNode } from "react";
import type { Board, BoardLane } from "../api/client";
import { has, useSession } from "../api/hooks";
import { Head } from "../head/Head";
import { Lane } from "../lanes/Lane";
import { NoteDialog } from "../lanes/NoteDialog";
import { placesOf } from "../lanes/places";
import { RangeBar } from "../lanes/RangeBar";
import { TimeAxis } from "../lanes/TimeAxis";
import { ViewContext } from "../lanes/view";
import { Failed } from "../parts/Said";
import { PageWaiting } from "../parts/Waiting";
import { useWidth } from "../parts/useWidth";
import { spoken } from "../time/duration";
import { longTime } from "../time/format";
import { isLive } from "../time/range";
import { zoneText } from "../time/zone";
import { movedTo } from "./board";
import { useBoardView } from "./useBoardView";
import { useLaneIds } from "./laneIds";

interface Props {
  board: Board;
  about?: string;
  /** Without it the board is only looked at. */
  onChange?: (board: Board) => void;
  children?: ReactNode;
}

/** A head and lanes below one time axis. */
export function BoardView({ board, about, onChange, children }: Props) {
  const [box, px] = useWidth();
  const { view, span, zone, width, site, paths, lanes, health, choice, wrong, change, zoomBack } =
    useBoardView(board, about, px);
  const session = useSession().data;
  const places = useMemo(() => [...new Set(paths.map((p) => p.slice(0, p.lastIndexOf("/"))))], [paths]);
  const [note, setNote] = useState<{ at: number; first: string[] } | null>(null);
  const mayNote = has(session, "operator");
  const pin = mayNote ? (at: number, first: string[] = []) => setNote({ at, first }) : undefined;

  return (
    <>
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
      {wrong && (
        <Failed error={new Error(`${wrong} The page shows ${rangeWords(isLive(choice.range))} instead.`)} />
      )}
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
          <p
            className="mt-1 text-xs text-soft"
            data-says
            data-range={`${longTime(span.from, zone)} to ${longTime(span.end, zone)}`}
          >
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
  const ids = useLaneIds(lanes);
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
            className="target cursor-grab touch-none self-center text-soft print:hidden"
          >
            <GripVertical size={14} aria-hidden className="inline" />
          </button>
        ),
      )}
    </div>
  );
}

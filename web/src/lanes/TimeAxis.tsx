import { useRef, type KeyboardEvent } from "react";
import { longTime } from "../time/format";
import { seconds } from "../time/duration";
import { moved, scaled, type Range } from "../time/range";
import { zoneText } from "../time/zone";
import { AxisMarks } from "./AxisMarks";
import { pointed, useCursor } from "./cursor";
import { CursorMark } from "./PlotArea";
import { timeAt, useView } from "./view";

interface Props {
  onRange: (range: Range) => void;
  onNote?: (ms: number) => void;
}

const high = 40;

/** The one time axis of a page, and its cursor, which the keyboard moves too. */
export function TimeAxis({ onRange, onNote }: Props) {
  const view = useView();
  const cursor = useCursor();
  const dragged = useRef(false);
  const { span, zone } = view;
  const at = cursor !== null && cursor >= span.from && cursor <= span.end ? cursor : null;
  const step = Math.max(1000, seconds(view.width) * 1000 || (span.end - span.from) / 100);
  const press = (e: KeyboardEvent) => {
    // Keys come faster than pictures, so the cursor is asked itself.
    const here = pointed.at ?? span.to;
    const go = (ms: number) => pointed.set(Math.min(span.end, Math.max(span.from, ms)));
    const keys: Record<string, () => void> = {
      ArrowLeft: () => go(here - step * (e.shiftKey ? 10 : 1)),
      ArrowRight: () => go(here + step * (e.shiftKey ? 10 : 1)),
      Home: () => go(span.from),
      End: () => go(span.end),
      PageUp: () => onRange(moved(span, -1, zone)),
      PageDown: () => onRange(moved(span, 1, zone)),
      "+": () => zoomAt(here, 0.5),
      "-": () => onRange(scaled(span, 2)),
      Escape: () => pointed.set(null),
      n: () => onNote?.(here),
    };
    const act = keys[e.key];
    if (!act || e.ctrlKey || e.metaKey || e.altKey) return;
    e.preventDefault();
    act();
  };
  const zoomAt = (ms: number, by: number) => {
    const before = (ms - span.from) * by;
    const after = (span.end - ms) * by;
    view.zoom(ms - before, ms + after);
  };
  return (
    <div
      role="slider"
      tabIndex={0}
      aria-label="Time cursor"
      aria-valuemin={Math.round(span.from / 1000)}
      aria-valuemax={Math.round(span.end / 1000)}
      aria-valuenow={Math.round((at ?? span.to) / 1000)}
      aria-valuetext={at === null ? "nowhere; the arrow keys move it" : longTime(at, zone, step < 60_000)}
      title="Arrow keys move the cursor, Page up and down the range, + and − zoom, n pins a note"
      onKeyDown={press}
      onPointerDown={(e) => {
        dragged.current = true;
        e.currentTarget.setPointerCapture(e.pointerId);
        pointed.set(timeAt(view, e.clientX - e.currentTarget.getBoundingClientRect().left));
      }}
      onPointerMove={(e) => {
        if (dragged.current || e.pointerType === "mouse")
          pointed.set(timeAt(view, e.clientX - e.currentTarget.getBoundingClientRect().left));
      }}
      onPointerUp={() => (dragged.current = false)}
      className="relative touch-none border-y border-rule bg-paper select-none"
      style={{ height: high }}
      data-axis
    >
      <AxisMarks height={high} />
      <CursorMark />
      <p className="pointer-events-none absolute top-0 left-1 text-xs text-soft">
        {at === null ? zoneText(zone, span.to) : longTime(at, zone, step < 60_000)}
      </p>
    </div>
  );
}

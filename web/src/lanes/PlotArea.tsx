import { useEffect, useRef, type PointerEvent, type ReactNode } from "react";
import { pointed } from "./cursor";
import { timeAt, useView, xOf } from "./view";

interface Props {
  height: number;
  /** What is drawn is from before. */
  dimmed?: boolean;
  children: ReactNode;
  /** What is opened when a time is clicked. */
  onPick?: (ms: number) => void;
}

const leastDrag = 6; // px; what is shorter is a click

/** Where a lane is drawn. The cursor goes with the mouse, and dragging picks a span, which all
 *  lanes then show. */
export function PlotArea({ height, dimmed = false, children, onPick }: Props) {
  const view = useView();
  const begun = useRef<number | null>(null);
  const x = (e: PointerEvent<HTMLElement>) => e.clientX - e.currentTarget.getBoundingClientRect().left;
  return (
    <div
      className={`relative touch-pan-y select-none ${dimmed ? "opacity-50" : ""}`}
      data-plot
      style={{ height }}
      onPointerDown={(e) => {
        if (e.button !== 0 || (e.target as HTMLElement).closest("button, a")) return;
        begun.current = x(e);
        e.currentTarget.setPointerCapture(e.pointerId);
      }}
      onPointerMove={(e) => {
        const at = timeAt(view, x(e));
        pointed.set(at);
        if (begun.current !== null && Math.abs(x(e) - begun.current) >= leastDrag)
          pointed.pick([timeAt(view, begun.current), at]);
      }}
      onPointerUp={(e) => {
        const from = begun.current;
        begun.current = null;
        const picked = pointed.picking;
        pointed.pick(null);
        if (from === null) return;
        if (picked && Math.abs(x(e) - from) >= leastDrag) view.zoom(Math.min(...picked), Math.max(...picked));
        else onPick?.(timeAt(view, x(e)));
      }}
      onPointerCancel={() => {
        begun.current = null;
        pointed.pick(null);
      }}
      onPointerLeave={(e) => {
        if (e.pointerType === "mouse" && begun.current === null) pointed.set(null);
      }}
    >
      {children}
      <CursorMark />
    </div>
  );
}

/** The cursor's line, and the span that is being picked. They are moved past React, as they
 *  follow the mouse. */
export function CursorMark() {
  const view = useView();
  const line = useRef<HTMLDivElement>(null);
  const picked = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const place = () => {
      const at = pointed.at;
      const l = line.current;
      if (l) {
        const seen = at !== null && at >= view.span.from && at <= view.span.end;
        l.style.display = seen ? "block" : "none";
        if (seen) l.style.transform = `translateX(${xOf(view, at)}px)`;
      }
      const p = picked.current;
      if (p) {
        p.style.display = pointed.picking ? "block" : "none";
        if (pointed.picking) {
          const [a, b] = pointed.picking.map((t) => xOf(view, t)) as [number, number];
          p.style.left = `${Math.min(a, b)}px`;
          p.style.width = `${Math.abs(b - a)}px`;
        }
      }
    };
    place();
    const leave = pointed.subscribe(place);
    return () => void leave();
  }, [view]);
  return (
    <>
      <div ref={picked} className="pointer-events-none absolute inset-y-0 hidden bg-water-wash" />
      <div
        ref={line}
        data-cursor
        className="pointer-events-none absolute inset-y-0 left-0 hidden w-px bg-ink"
      />
    </>
  );
}

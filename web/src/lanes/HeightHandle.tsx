import { useRef, type KeyboardEvent, type PointerEvent } from "react";
import { highest, lowest } from "./kinds";

interface Props {
  /** Of the lane, for those who hear it. */
  name: string;
  height: number;
  /** What is shown while it is dragged; null: what is kept. */
  onDrag: (height: number | null) => void;
  /** Undefined: what the lane's kind has. */
  onKeep: (height: number | undefined) => void;
}

const step = 16; // px of a key

const within = (height: number) => Math.round(Math.min(highest, Math.max(lowest, height)));

/** The lower edge of a lane: dragged, or moved with the arrow keys, it makes the lane higher or lower;
 *  two clicks give it back the height of its kind. */
export function HeightHandle({ name, height, onDrag, onKeep }: Props) {
  const begun = useRef<{ y: number; height: number } | null>(null);
  const at = (e: PointerEvent) =>
    begun.current ? within(begun.current.height + e.clientY - begun.current.y) : height;
  const key = (e: KeyboardEvent) => {
    const by = e.key === "ArrowDown" ? step : e.key === "ArrowUp" ? -step : 0;
    if (by === 0) return;
    e.preventDefault();
    onKeep(within(height + by));
  };
  return (
    <div
      role="separator"
      aria-orientation="horizontal"
      aria-label={`Height of lane ${name}`}
      aria-valuenow={height}
      aria-valuemin={Math.min(lowest, height)}
      aria-valuemax={highest}
      aria-valuetext={`${height} pixels`}
      tabIndex={0}
      title="Drag to make the lane higher or lower; double click to restore its own height"
      className="absolute inset-x-0 -bottom-1 z-[1] h-2 cursor-row-resize pointer-coarse:-bottom-3 pointer-coarse:h-6 touch-none rounded-sheet hover:bg-water focus-visible:bg-water print:hidden"
      onPointerDown={(e) => {
        if (e.button !== 0) return;
        begun.current = { y: e.clientY, height };
        e.currentTarget.setPointerCapture(e.pointerId);
      }}
      onPointerMove={(e) => {
        if (begun.current) onDrag(at(e));
      }}
      onPointerUp={(e) => {
        if (!begun.current) return;
        const kept = at(e);
        const moved = kept !== begun.current.height;
        begun.current = null;
        onDrag(null);
        if (moved) onKeep(kept);
      }}
      onPointerCancel={() => {
        begun.current = null;
        onDrag(null);
      }}
      onDoubleClick={() => onKeep(undefined)}
      onKeyDown={key}
    />
  );
}

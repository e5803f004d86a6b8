import type { BoardLane } from "../api/client";
import { hueOf } from "../lanes/colours";
import { useCursor } from "../lanes/cursor";
import { kindOf } from "../lanes/kinds";
import { present } from "../lanes/Legend";
import { labelsOf, type Row } from "../lanes/rows";
import { useView } from "../lanes/view";

interface Props {
  lane: BoardLane;
  rows: Row[];
  /** In px. */
  height: number;
}

const [least, most] = [18, 22]; // px of a line

/** The present values of a lane, one line each, as many as its height holds. */
export function WallLegend({ lane, rows, height }: Props) {
  const view = useView();
  const cursor = useCursor();
  const own = rows.filter((r) => !r.shift);
  const labels = labelsOf(own.map((r) => r.name));
  const line = Math.min(most, Math.max(least, Math.floor((height - 4) / Math.max(1, own.length))));
  const fits = Math.max(1, Math.floor((height - 4) / line));
  const shown = own.length > fits ? own.slice(0, fits - 1) : own;
  return (
    <ul className="min-w-0 py-0.5" data-legend>
      {shown.map((r, i) => (
        <li
          key={r.key}
          data-row={r.name}
          className="flex items-baseline gap-1.5 px-1"
          style={{ height: line, lineHeight: `${line}px` }}
        >
          {!kindOf(lane).statesInColour && (
            <span
              aria-hidden
              className="inline-block h-0.5 w-3 shrink-0 self-center"
              style={{ background: hueOf(i) }}
            />
          )}
          <span className="min-w-0 truncate" dir="rtl" title={r.name}>
            <bdi>{labels[i]}</bdi>
          </span>
          <span className="ml-auto font-semibold whitespace-nowrap" data-present>
            {present(lane, r, cursor, view.units(r.unit).written)}
          </span>
        </li>
      ))}
      {shown.length < own.length && <li className="px-1 text-soft">and {own.length - shown.length} more</li>}
    </ul>
  );
}

import { Fragment } from "react";
import { number } from "../format";
import { shortTime } from "../time/format";
import type { BoardLane } from "../api/client";
import { hueOf } from "./colours";
import { useCursor } from "./cursor";
import { kindOf, type Fact } from "./kinds";
import { noData, withUnit } from "./kinds/kind";
import { labelsOf, whyMissing, windowAt, type Row } from "./rows";
import { stateColour } from "./Strips";
import { statesOf } from "./strips";
import { useView, type View } from "./view";

interface Props {
  lane: BoardLane;
  rows: Row[];
  single: string | null;
  onSingle: (name: string | null) => void;
}

/** What the series of a lane say in figures: at the cursor, or now, and over the range. A click
 *  singles one out. */
export function Legend({ lane, rows, single, onSingle }: Props) {
  const view = useView();
  const cursor = useCursor();
  const own = rows.filter((r) => !r.shift);
  const labels = labelsOf(own.map((r) => r.name));
  const states = statesOf(own.map((r) => r.states));
  return (
    <div className="min-w-0" data-legend>
      {kindOf(lane).statesInColour && (
        <p className="flex flex-wrap gap-x-3 text-xs text-soft">
          {states.map((s, i) => (
            <span key={s.value}>
              <span
                className="mr-1 inline-block size-2.5 border border-soft"
                style={{ background: stateColour(i) }}
              />
              {s.name}
            </span>
          ))}
        </p>
      )}
      <ul className={own.length > 1 ? "print:columns-2" : ""}>
        {own.map((r, i) => {
          const ghost = rows.find((g) => g.shift && g.name === r.name);
          const unit = view.units(r.unit).written;
          return (
            <li key={r.key} className="break-inside-avoid">
              <button
                type="button"
                aria-pressed={single === r.name}
                onClick={() => onSingle(single === r.name ? null : r.name)}
                title={r.name}
                data-row={r.name}
                className={`w-full rounded-sheet px-1 py-0.5 text-left hover:bg-paper ${single === r.name ? "bg-paper" : ""}`}
              >
                <span className="flex items-baseline gap-1.5">
                  {!kindOf(lane).statesInColour && (
                    <span
                      aria-hidden
                      data-hue
                      className="inline-block h-0.5 w-3 shrink-0 self-center"
                      style={{ background: hueOf(i) }}
                    />
                  )}
                  <span className="min-w-0 truncate">
                    {view.px < 600 && own.length > 1 ? `${i + 1} ` : ""}
                    {labels[i]}
                  </span>
                  <span className="ml-auto font-semibold whitespace-nowrap" data-present>
                    {present(lane, r, cursor, unit)}
                  </span>
                </span>
                <span className="block text-xs text-soft">
                  {facts(lane, r, view, unit).map(([name, value, note]) => (
                    <Fragment key={name}>
                      <span className="mr-1 whitespace-nowrap" data-fact>
                        {name} <span className="text-ink">{value}</span>
                        {note && ` ${note}`}
                      </span>{" "}
                    </Fragment>
                  ))}
                  {ghost && <Earlier lane={lane} row={r} ghost={ghost} unit={unit} />}
                </span>
              </button>
            </li>
          );
        })}
      </ul>
    </div>
  );
}

/** What the row says at the cursor; without one, the last that is known. */
export function present(lane: BoardLane, r: Row, cursor: number | null, unit: string): string {
  const window = cursor === null ? -1 : windowAt(r, cursor);
  if (cursor !== null && window < 0) return "–";
  const text = kindOf(lane).present(lane, r, window, unit);
  if (window < 0 || text !== noData) return text;
  const why = whyMissing(r, r.starts[window] ?? 0, r.ends[window] ?? 0, true);
  return why ? `${noData}: ${why}` : text;
}

function facts(lane: BoardLane, r: Row, view: View, unit: string): Fact[] {
  return kindOf(lane).facts(lane, r, unit, (stat) => {
    const text = r.wholeTimes[stat];
    return text
      ? shortTime(Date.parse(text), view.zone, { from: view.span.from, to: view.span.end })
      : undefined;
  });
}

/** How far two numbers are from each other; what only the rounding of their sums left is nothing. */
function apart(a: number, b: number): number {
  const by = Math.abs(a - b);
  return by <= 1e-12 * Math.max(Math.abs(a), Math.abs(b)) ? 0 : by;
}

/** The same so much earlier, and how far it is from that. */
function Earlier({ lane, row, ghost, unit }: { lane: BoardLane; row: Row; ghost: Row; unit: string }) {
  if (!kindOf(lane).saysHowFar) return null;
  const stat = row.values.value ? "value" : kindOf(lane).drawn(lane);
  const [now, then] = [row.whole[stat], ghost.whole[stat]];
  const names: Record<string, string> = { "1d": "a day", "1w": "a week", "1y": "a year" };
  if (then == null) return <span>{names[ghost.shift] ?? ghost.shift} earlier: no data</span>;
  const by = now == null ? "" : number(apart(now, then));
  const more = now == null ? "" : by === "0" ? ", now the same" : `, now ${now > then ? "+" : "−"}${by}`;
  return (
    <span className="whitespace-nowrap" data-fact>
      {names[ghost.shift] ?? ghost.shift} earlier {withUnit(number(then), unit)}
      {more}
    </span>
  );
}

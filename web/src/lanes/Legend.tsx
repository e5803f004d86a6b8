import { Fragment } from "react";
import { count, fixed, number, percent, stateName } from "../format";
import { length } from "../time/duration";
import { shortTime } from "../time/format";
import type { BoardLane } from "../api/client";
import { compass } from "./bearing";
import { hueOf } from "./colours";
import { useCursor } from "./cursor";
import { drawnStat } from "./lines";
import { labelsOf, lastKnown, valueAt, windowAt, type Row } from "./rows";
import { stateColour } from "./Strips";
import { statesOf } from "./strips";
import { useView, type View } from "./view";

interface Props {
  lane: BoardLane;
  rows: Row[];
  single: string | null;
  onSingle: (name: string | null) => void;
}

type Fact = [name: string, value: string, note?: string];

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
      {lane.kind === "states" && (
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
                  {lane.kind !== "states" && (
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

const withUnit = (text: string, unit: string) => (unit ? `${text} ${unit}` : text);

/** What the row says at the cursor; without one, the last that is known. */
export function present(lane: BoardLane, r: Row, cursor: number | null, unit: string): string {
  const window = cursor === null ? -1 : windowAt(r, cursor);
  if (cursor !== null && window < 0) return "–";
  if (lane.kind === "states") {
    if (window < 0) return stateName(r.states, lastKnown(r, "last"));
    const seen = Object.values(r.states).filter((v) => (valueAt(r, `share:${v}`, window) ?? 0) > 0.0005);
    return seen.length === 0 ? "no data" : seen.map((v) => stateName(r.states, v)).join(", ");
  }
  const stat = r.values.value ? "value" : drawnStat(lane);
  // The newest window has only begun, so that it says little of how much is covered.
  if (lane.kind === "coverage" && window < 0) return percent(r.coverage);
  const v =
    window < 0
      ? lane.kind === "growth"
        ? lastKnown(r, stat)
        : (lastKnown(r, "last") ?? lastKnown(r, stat))
      : valueAt(r, stat, window);
  if (v === null) return "no data";
  if (lane.kind === "coverage") return percent(v, 0);
  if (lane.kind === "bearing") return `${compass(v)} ${fixed(v, 0)}°`;
  return withUnit(number(v), unit);
}

function facts(lane: BoardLane, r: Row, view: View, unit: string): Fact[] {
  const w = r.whole;
  const when = (stat: string) => {
    const text = r.wholeTimes[stat];
    return text
      ? shortTime(Date.parse(text), view.zone, { from: view.span.from, to: view.span.end })
      : undefined;
  };
  switch (lane.kind) {
    case "states":
      return [
        ...Object.entries(r.states)
          .filter(([, v]) => (w[`duration:${v}`] ?? 0) > 0)
          .map(([name, v]): Fact => [name, length((w[`duration:${v}`] ?? 0) * 1000)]),
        ["changes", number(w.changes)],
      ];
    case "growth":
      return [
        ["grew by", withUnit(number(w.increase), unit)],
        ["an hour", number(w["rate/h"])],
        ...(w.restarts ? [["restarts", number(w.restarts)] as Fact] : []),
      ];
    case "bearing":
      return [
        ["vector mean", w.mean == null ? "–" : `${compass(w.mean)} ${fixed(w.mean, 0)}°`],
        ["steadiness", percent(w.steadiness, 0)],
      ];
    case "coverage":
      return [
        ["windows without data", `${count(r.empty.filter(Boolean).length)} of ${count(r.empty.length)}`],
      ];
    default:
      if (r.values.value) return [["whole range", withUnit(number(w.value), unit)]];
      return [
        ["mean", number(w.mean)],
        ["lowest", number(w.min), when("min_at")],
        ["highest", number(w.max), when("max_at")],
        ...(lane.stat && w[lane.stat] !== undefined && !["mean", "min", "max"].includes(lane.stat)
          ? [[lane.stat, number(w[lane.stat])] as Fact]
          : []),
      ];
  }
}

/** The same so much earlier, and how far it is from that. */
function Earlier({ lane, row, ghost, unit }: { lane: BoardLane; row: Row; ghost: Row; unit: string }) {
  if (lane.kind === "states" || lane.kind === "coverage" || lane.kind === "bearing") return null;
  const stat = row.values.value ? "value" : drawnStat(lane);
  const [now, then] = [row.whole[stat], ghost.whole[stat]];
  const names: Record<string, string> = { "1d": "a day", "1w": "a week", "1y": "a year" };
  if (then == null) return <span>{names[ghost.shift] ?? ghost.shift} earlier: no data</span>;
  const by = now == null ? "" : number(Math.abs(now - then));
  const more = now == null ? "" : by === "0" ? ", now the same" : `, now ${now > then ? "+" : "−"}${by}`;
  return (
    <span className="whitespace-nowrap" data-fact>
      {names[ghost.shift] ?? ghost.shift} earlier {withUnit(number(then), unit)}
      {more}
    </span>
  );
}

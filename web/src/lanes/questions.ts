import type { BoardLane } from "../api/client";
import { at } from "../board/board";
import { seconds } from "../time/duration";
import { isLive, widthFor } from "../time/range";
import { seriesOf } from "./axes";
import { kindOf } from "./kinds";
import type { View } from "./view";

export type Question = Record<string, string | string[]>;

// So much is asked for at a time: what is asked together is drawn together, and refused together.
const mostSeries = 64;
const mostWindows = 200_000;

/**
 * What a lane asks the service: its names in one question where they may be, and each by itself
 * that could spoil the answer for the others.
 */
export function questionsOf(lane: BoardLane, view: View): Question[] {
  const common: Question = { zone: view.zone, edges: "clipped" };
  if (view.hours) common.hours = view.hours;
  if (view.compare && kindOf(lane).compares) common.shift = view.compare;
  const names = (lane.series ?? []).map((s) => at(s, view.about)).filter((s) => s !== undefined);
  const all = seriesOf(lane, view.catalogue, view.about);
  const fits = all.reduce((w, s) => widthFor(w, s.tiers), view.width);
  const estimated = lane.stat?.endsWith("~") ?? false;
  // What percentiles are estimated from is kept for quarters of an hour.
  common.width = estimated && seconds(fits) < 900 ? "15m" : fits;
  if (/^\d+h$/.test(common.width) && seconds(common.width) >= 3 * 3600) common.by_clock = "true";
  common.grain = grainOf(
    seconds(common.width),
    all.map((s) => seconds(s.tiers[0] ?? "10s")),
    isLive(view.range),
    estimated,
  );
  const out: Question[] = [];
  if (lane.difference && names.length >= 2) {
    const stat = lane.stat ?? "mean";
    const unit = all[0]?.unit ?? "";
    out.push({
      ...common,
      input: [`a=${names[0] ?? ""}@${stat}`, `b=${names[1] ?? ""}@${stat}`],
      calc: ["difference=a-b"],
      ...unitOf(unit, view, "difference="),
    });
  } else {
    const states = all.map((s) => s.states);
    const stats = (kindOf(lane).stats?.(lane, states) ?? []).join(",");
    const windows = (view.span.end - view.span.from) / 1000 / seconds(common.width);
    const most = /^p\d/.test(lane.stat ?? "") ? 0 : Math.min(mostSeries, mostWindows / windows);
    for (const { names: select, unit } of together(lane, names, view, most))
      out.push({ ...common, select, stats, ...unitOf(unit, view, "", true) });
  }
  if (lane.calculate) {
    const { name, formula, inputs, unit } = lane.calculate;
    const given = Object.entries(inputs).map(([as, of]) => `${as}=${at(of, view.about) ?? of}`);
    out.push({
      ...common,
      input: given,
      calc: [`${plainName(name)}=${formula}`],
      ...(unit ? { unit: [`${plainName(name)}=${unit}`] } : {}),
    });
  }
  return out;
}

/**
 * To what a range is rounded, in s, so that its first and last window end with it: to what there are summaries
 * of, and of a range that goes on with the time no more exactly than its windows deserve.
 */
function grainOf(width: number, narrowest: number[], goesOn: boolean, estimated: boolean): string {
  const kept = Math.max(10, ...narrowest);
  const fine = width < 60 ? 10 : 60;
  return String(Math.max(kept, estimated || (goesOn && width >= 3600) ? 900 : fine));
}

interface Together {
  names: string[];
  unit: string;
  like?: string;
  series: number;
}

/** Names that may be asked for together: of series there are, of one kind, that are shown in the same unit. */
function together(lane: BoardLane, names: string[], view: View, most: number): Together[] {
  const out: Together[] = [];
  for (const name of names) {
    const found = seriesOf({ ...lane, series: [name] }, view.catalogue);
    const unit = found[0]?.unit ?? "";
    const like = found[0] ? `${found[0].kind} ${view.units(unit).symbol && unit}` : undefined;
    const others = out.find((o) => like !== undefined && o.like === like && o.series + found.length <= most);
    if (others) {
      others.names.push(name);
      others.series += found.length;
    } else out.push({ names: [name], unit, like, series: found.length });
  }
  return out;
}

/** A name that calculations may have. */
export const plainName = (name: string) => name.replace(/\W+/g, "_").replace(/^(\d)/, "_$1") || "calculation";

function unitOf(symbol: string, view: View, prefix: string, onlyLiked = false): Question {
  const liked = view.units(symbol).symbol;
  if (onlyLiked && !liked) return {};
  return { unit: [prefix + (liked || symbol)].filter((u) => !u.endsWith("=") && u !== "") };
}

export function paramsOf(
  { grain, ...question }: Question,
  span?: { from: number; to: number },
): URLSearchParams {
  const params = new URLSearchParams();
  for (const [name, value] of Object.entries(question))
    for (const one of Array.isArray(value) ? value : [value]) params.append(name, one);
  if (span) {
    const ms = Number(grain ?? 0) * 1000 || 1;
    params.set("from", new Date(Math.floor(span.from / ms) * ms).toISOString());
    params.set("to", new Date(Math.ceil(span.to / ms) * ms).toISOString());
  }
  return params;
}

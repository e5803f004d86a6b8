import { keepPreviousData, useQueries, type UseQueryOptions } from "@tanstack/react-query";
import { useMemo } from "react";
import { ask, type BoardLane, type Windows } from "../api/client";
import { at } from "../board/board";
import { live } from "../live/store";
import { seconds } from "../time/duration";
import { isLive, spanOf, widthFor } from "../time/range";
import { seriesOf } from "./axes";
import { rowsOf, type Row } from "./rows";
import { statesOf } from "./strips";
import type { View } from "./view";

export interface Rows {
  rows: Row[];
  loading: boolean;
  /** What is shown is from before: it could not be asked for again. */
  stale: boolean;
  errors: Error[];
  /** A place has to be chosen before anything can be asked for. */
  placeless: boolean;
}

export type Question = Record<string, string | string[]>;

/** What a lane asks the service, one question for each of its names. */
export function questionsOf(lane: BoardLane, view: View): Question[] {
  const common: Question = { zone: view.zone };
  if (view.hours) common.hours = view.hours;
  if (view.compare && lane.kind !== "coverage") common.shift = view.compare;
  const names = (lane.series ?? []).map((s) => at(s, view.about)).filter((s) => s !== undefined);
  const all = seriesOf(lane, view.catalogue, view.about);
  const fits = all.reduce((w, s) => widthFor(w, s.tiers), view.width);
  // What percentiles are estimated from is kept for quarters of an hour.
  common.width = lane.stat?.endsWith("~") && seconds(fits) < 900 ? "15m" : fits;
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
    const stats = statsOf(
      lane,
      all.map((s) => s.states),
    );
    for (const select of names) {
      const unit = all.find(
        (s) => s.path === select || seriesOf({ ...lane, series: [select] }, view.catalogue)[0] === s,
      )?.unit;
      out.push({ ...common, select, stats, ...unitOf(unit ?? "", view, "", true) });
    }
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

/** A name that calculations may have. */
export const plainName = (name: string) => name.replace(/\W+/g, "_").replace(/^(\d)/, "_$1") || "calculation";

function unitOf(symbol: string, view: View, prefix: string, onlyLiked = false): Question {
  const liked = view.units(symbol).symbol;
  if (onlyLiked && !liked) return {};
  return { unit: [prefix + (liked || symbol)].filter((u) => !u.endsWith("=") && u !== "") };
}

/** The stats that a lane needs of its series. */
export function statsOf(lane: BoardLane, states: Record<string, number>[]): string {
  switch (lane.kind) {
    case "states":
      return [
        ...statesOf(states).flatMap((s) => [`share:${s.value}`, `duration:${s.value}`]),
        "changes",
        "last",
        "last_at",
        "count",
      ].join(",");
    case "growth":
      return "increase,rate/h,restarts,last,count";
    case "bearing":
      return "mean,steadiness,last,count";
    case "coverage":
      return "coverage,count";
    default: {
      const usual = ["mean", "min", "max", "min_at", "max_at", "last", "last_at", "count"];
      return [...(lane.stat && !usual.includes(lane.stat) ? [lane.stat] : []), ...usual].join(",");
    }
  }
}

export function paramsOf(question: Question, span?: { from: number; to: number }): URLSearchParams {
  const params = new URLSearchParams();
  for (const [name, value] of Object.entries(question))
    for (const one of Array.isArray(value) ? value : [value]) params.append(name, one);
  if (span) {
    params.set("from", new Date(span.from).toISOString());
    params.set("to", new Date(span.to).toISOString());
  }
  return params;
}

/** How often what goes on is asked for again, in ms. */
export function refreshEvery(width: string): number {
  return Math.min(60_000, Math.max(5000, (seconds(width) * 1000) / 4));
}

/** The rows of a lane. */
export function useRows(lane: BoardLane, view: View, enabled = true): Rows {
  const questions = enabled ? questionsOf(lane, view) : [];
  const going = isLive(view.range);
  const answers = useQueries({
    queries: questions.map((q): UseQueryOptions<Row[]> => ({
      queryKey: ["windows", q, view.range],
      queryFn: async ({ signal }) => {
        const span = spanOf(view.range, Date.now() + live.ahead, view.zone);
        return rowsOf(await ask<Windows>("windows", paramsOf(q, span), signal));
      },
      refetchInterval: going ? refreshEvery(view.width) : false,
      placeholderData: keepPreviousData,
      staleTime: going ? 2000 : 60_000,
      gcTime: 60_000,
    })),
  });
  const data = answers.map((a) => a.data);
  const stamp = answers.map((a) => `${a.dataUpdatedAt} ${a.isPlaceholderData}`).join();
  const rows = useMemo(
    () => unique(data.flatMap((d) => d ?? [])),
    // eslint-disable-next-line react-hooks/exhaustive-deps -- the stamp says when any of the answers is another
    [stamp],
  );
  return {
    rows,
    loading: answers.some((a) => a.isPending),
    stale: answers.some((a) => a.failureCount > 0 || a.isPlaceholderData),
    errors: answers.map((a) => a.error).filter((e) => e !== null),
    placeless: questions.length === 0 && (lane.series?.length ?? 0) > 0,
  };
}

/** A series that two names of a lane find is one; how good a series is is no line of its own. */
function unique(rows: Row[]): Row[] {
  const out = new Map<string, Row>();
  for (const r of rows) if (!r.name.endsWith("/quality") || rows.length === 1) out.set(r.key, r);
  return [...out.values()];
}

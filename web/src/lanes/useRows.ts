import { useQueries, type UseQueryOptions } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { ask, Unreachable, type BoardLane } from "../api/client";
import { at, matches } from "../board/board";
import { seconds } from "../time/duration";
import { isLive, spanOf } from "../time/range";
import { paramsOf, plainName, questionsOf } from "./questions";
import { rowsOf, type Row } from "./rows";
import type { View } from "./view";
import { serviceNow } from "../time/clock";

export interface Rows {
  rows: Row[];
  loading: boolean;
  /** What is shown is from before: loading, or could not be asked for again. */
  stale: boolean;
  errors: Error[];
  /** A place has to be chosen before anything can be asked for. */
  placeless: boolean;
}

/** How often what goes on is asked for again, in ms. */
export function refreshEvery(width: string): number {
  return Math.min(60_000, Math.max(5000, (seconds(width) * 1000) / 4));
}

/** The rows of a lane. */
export function useRows(lane: BoardLane, view: View): Rows {
  const questions = questionsOf(lane, view);
  const going = isLive(view.range);
  const answers = useQueries({
    queries: questions.map((q): UseQueryOptions<Row[]> => ({
      queryKey: ["windows", q, view.range],
      queryFn: async ({ signal }) => {
        const span = spanOf(view.range, serviceNow(), view.zone);
        return rowsOf(await ask("windows", paramsOf(q, span), signal));
      },
      refetchInterval: going ? refreshEvery(view.width) : false,
      staleTime: going ? 2000 : 60_000,
      gcTime: 60_000,
    })),
  });
  const data = answers.map((a) => a.data);
  const loading = answers.some((a) => a.isPending);
  const stamp = answers.map((a) => a.dataUpdatedAt).join();
  const rows = useMemo(
    () => inOrder(lane, view.about, unique(data.flatMap((d) => d ?? []))),
    // eslint-disable-next-line react-hooks/exhaustive-deps -- the stamp says when any of the answers is another
    [stamp],
  );
  const [before, setBefore] = useState({ lane, units: view.units, rows });
  if (!loading && before.rows !== rows) setBefore({ lane, units: view.units, rows });
  const meanwhile = loading && before.units === view.units ? stillOf(lane, view.about, before) : [];
  return {
    rows: meanwhile.length > 0 ? meanwhile : rows,
    loading,
    stale: meanwhile.length > 0 || answers.some((a) => a.failureCount > 0 && a.data !== undefined),
    // What is asked again by itself says why, unless the page does.
    errors: answers
      .map((a) => a.error ?? (a.failureReason instanceof Unreachable ? null : a.failureReason))
      .filter((e) => e !== null),
    placeless: questions.length === 0 && (lane.series?.length ?? 0) > 0,
  };
}

/** Rows in the order of the lane's names, whichever were asked for together. */
function inOrder(lane: BoardLane, about: string | undefined, rows: Row[]): Row[] {
  const names = (lane.series ?? []).map((s) => at(s, about) ?? "");
  const place = (row: Row) => {
    const i = names.findIndex((name) => matches(name, row.name));
    return i < 0 ? names.length : i; // calculations come last
  };
  return rows.toSorted((a, b) => place(a) - place(b));
}

/** What of the rows from before may stand in a lane, dimmed, until its answer is here. */
function stillOf(
  lane: BoardLane,
  about: string | undefined,
  before: { lane: BoardLane; rows: Row[] },
): Row[] {
  if (before.lane.kind !== lane.kind || before.lane.stat !== lane.stat) return [];
  const names = (lane.series ?? []).map((s) => at(s, about) ?? "");
  const calculated = lane.calculate && plainName(lane.calculate.name);
  return before.rows.filter(
    (row) =>
      row.name === calculated ||
      (lane.difference ? row.name === "difference" : names.some((name) => matches(name, row.name))),
  );
}

/** A series that two names of a lane find is one; how good a series is is no line of its own. */
function unique(rows: Row[]): Row[] {
  const out = new Map<string, Row>();
  for (const r of rows) if (!r.name.endsWith("/quality") || rows.length === 1) out.set(r.key, r);
  return [...out.values()];
}

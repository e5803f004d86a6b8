import { useCallback, useMemo } from "react";
import { useLocation, useNavigate } from "react-router";
import type { Board } from "../api/client";
import type { TimeChoice } from "../lanes/RangeBar";
import { usePreferences } from "../preferences";
import { readRange, writeRange, type Range } from "../time/range";
import { isZone, viewerZone } from "../time/zone";

const earlier = ["1d", "1w", "1y"];

/** The time of a page. Its zone may be only what the viewer prefers; said is what its board or address says. */
export interface PageTime extends TimeChoice {
  said: string;
}

/** What a board says of its time. */
export function timeOfBoard(board: Board): Partial<TimeChoice> {
  const r = board.range;
  let range: Range | undefined;
  if (r?.last) range = { kind: "last", last: r.last };
  else if (r?.calendar) range = { kind: "calendar", calendar: r.calendar };
  else if (r?.from && r.to) range = { kind: "span", from: Date.parse(r.from), to: Date.parse(r.to) };
  return { range, zone: board.zone, width: board.width, hours: board.hours, compare: board.compare };
}

/** A board with a time as its own. */
export function withTime(board: Board, time: PageTime): Board {
  const range =
    time.range.kind === "last"
      ? { last: time.range.last }
      : time.range.kind === "calendar"
        ? { calendar: time.range.calendar }
        : { from: new Date(time.range.from).toISOString(), to: new Date(time.range.to).toISOString() };
  return {
    ...board,
    range,
    zone: time.said || undefined,
    width: time.width || undefined,
    hours: time.hours || undefined,
    compare: (time.compare || undefined) as Board["compare"],
  };
}

/** The time of a page: as its address says, else as the board does. Zooming keeps the way back, also
 *  when the page was opened from a bookmark. */
export function useTime(board: Board) {
  const location = useLocation();
  const navigate = useNavigate();
  const preferred = usePreferences().zone;
  const { choice, wrong } = useMemo(() => {
    const params = new URLSearchParams(location.search);
    const own = timeOfBoard(board);
    const said = readRange(params);
    const zone = params.get("zone") ?? own.zone ?? "";
    const known = zone === "" || zone === "site" || zone === "viewer" || isZone(zone);
    const shift = params.get("compare") ?? own.compare ?? "";
    const out: PageTime = {
      range: said.range ?? own.range ?? { kind: "last", last: "1d" },
      zone: known && zone ? zone : preferred,
      said: known ? zone : "",
      width: params.get("width") ?? own.width ?? "",
      hours: params.get("hours") ?? own.hours ?? "",
      compare: earlier.includes(shift) ? shift : "",
    };
    return {
      choice: out,
      wrong: said.wrong ?? (known ? undefined : `The zone “${zone}” is not known here.`),
    };
  }, [location.search, board, preferred]);

  const back = useMemo(
    () => ((location.state as { back?: string[] } | null)?.back ?? []).slice(-50),
    [location.state],
  );

  const change = useCallback(
    (next: Partial<TimeChoice>, keepBack = false) => {
      const params = new URLSearchParams(location.search);
      if (next.range) writeRange(params, next.range);
      for (const name of ["zone", "width", "hours", "compare"] as const) {
        const value = next[name];
        if (value === undefined) continue;
        if (value === "" && !timeOfBoard(board)[name]) params.delete(name);
        else params.set(name, value);
      }
      const state = keepBack ? { back: [...back, location.search] } : { back: next.range ? [] : back };
      void navigate(`${location.pathname}?${params}`, { state });
    },
    [back, board, location.pathname, location.search, navigate],
  );

  const zoomBack = useMemo(() => {
    const before = back[back.length - 1];
    if (before === undefined) return undefined;
    return () => void navigate(`${location.pathname}${before}`, { state: { back: back.slice(0, -1) } });
  }, [back, location.pathname, navigate]);

  return { choice, wrong, change, zoomBack };
}

/** The zone that a choice means. */
export function zoneOf(choice: string, site: string): string {
  if (choice === "viewer") return viewerZone();
  return choice === "" || choice === "site" ? site : choice;
}

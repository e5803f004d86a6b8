import type { Board, BoardLane } from "../api/client";
import { laneKinds } from "../lanes/kinds";
import { emptyBoard } from "./board";

/* The lanes of Trends stand in the address, so that a link opens exactly what was sent. */

const mostLanes = 60;

/** Writes lanes into an address. What is only series is written so that people can read it. */
export function writeLanes(params: URLSearchParams, board: Board) {
  params.delete("lane");
  params.delete("series");
  params.delete("head");
  for (const lane of board.lanes ?? []) params.append("lane", laneText(lane));
  for (const h of board.head ?? []) params.append("head", h.gauge ? `${h.series}|gauge` : h.series);
}

function laneText(lane: BoardLane): string {
  const { kind, series, ...more } = lane;
  const simple = Object.values(more).every((v) => v === undefined) && series?.length;
  if (simple && !series.some((s) => /[,:|]/.test(s))) return `${kind}:${series.join(",")}`;
  return JSON.stringify(lane);
}

/** The lanes that an address says; of series alone, one for each, as their kind wants it. */
export function readLanes(params: URLSearchParams): { board: Board; plain: string[]; wrong?: string } {
  const lanes: BoardLane[] = [];
  let wrong: string | undefined;
  for (const text of params.getAll("lane").slice(0, mostLanes)) {
    const lane = readLane(text);
    if (lane) lanes.push(lane);
    else wrong = `The address has a lane that cannot be read: ${text.slice(0, 80)}`;
  }
  const head = params.getAll("head").map((text) => {
    const [series = "", how] = text.split("|");
    return { series, gauge: how === "gauge" };
  });
  return { board: { ...emptyBoard, lanes, head }, plain: params.getAll("series").slice(0, mostLanes), wrong };
}

function readLane(text: string): BoardLane | undefined {
  if (text.startsWith("{")) {
    try {
      const lane = JSON.parse(text) as BoardLane;
      const names: unknown = lane.series ?? [];
      const named = Array.isArray(names) && names.every((s) => typeof s === "string");
      return named && Object.hasOwn(laneKinds, lane.kind) ? lane : undefined;
    } catch {
      return undefined;
    }
  }
  const [kind = "", rest = ""] = text.split(/:(.*)/s);
  if (!Object.hasOwn(laneKinds, kind)) return undefined;
  return { kind: kind as BoardLane["kind"], series: rest.split(",").filter(Boolean) };
}

import type { Board, BoardLane, Series } from "../api/client";

export type { Board, BoardHead, BoardLane } from "../api/client";

export const form = "nexocumula-board-1";

export type Kind = BoardLane["kind"];

/** The kind of lane that shows a series. */
export function kindFor(series: Pick<Series, "kind"> | undefined): Kind {
  switch (series?.kind) {
    case "counter":
      return "growth";
    case "state":
      return "states";
    case "bearing":
      return "bearing";
    default:
      return "chart";
  }
}

export const kindNames: Record<Kind, string> = {
  chart: "lines",
  states: "states as strips",
  growth: "growth as bars",
  bearing: "directions",
  coverage: "coverage",
  notes: "notes and outages",
  text: "text",
};

export const emptyBoard: Board = { form, title: "Trends", head: [], lanes: [] };

/** A path or selector as it reads at a place; undefined when it needs one that is not chosen. */
export function at(text: string, about: string | undefined): string | undefined {
  const site = about?.split("/")[0];
  const station = about?.includes("/") ? about : undefined;
  if (text.includes("{site}") && !site) return undefined;
  if (text.includes("{station}") && !station) return undefined;
  return text.replaceAll("{site}", site ?? "").replaceAll("{station}", station ?? "");
}

/** Whether a path is one that a selector names. */
export function matches(selector: string, path: string): boolean {
  const want = selector.split("/");
  const levels = path.split("/");
  for (const [i, level] of want.entries()) {
    if (level === "#") return i <= levels.length;
    if (i >= levels.length || (level !== "+" && level !== levels[i])) return false;
  }
  return want.length === levels.length;
}

/** How high a lane may be made, in px. */
export const lowest = 40;
export const highest = 1200;

/** How high a lane is, in px, when nobody made it another. */
export function heightOf(lane: BoardLane, rows = 1): number {
  if (lane.height) return Math.min(highest, Math.max(lowest, Number(lane.height) || lowest)); // an address may say anything
  switch (lane.kind) {
    case "chart":
      return Math.min(320, Math.max(176, 46 * rows)); // as high as its figures beside it
    case "growth":
      return 120;
    case "bearing":
      return 132;
    case "states":
    case "coverage":
      return 12 + 24 * Math.max(1, Math.min(rows, 20));
    default:
      return 40;
  }
}

/** A list with one of its members at another place. */
export function movedTo<T>(list: readonly T[], from: number, to: number): T[] {
  const out = [...list];
  const [one] = out.splice(from, 1);
  if (one !== undefined) out.splice(Math.max(0, Math.min(out.length, to)), 0, one);
  return out;
}

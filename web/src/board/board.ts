import type { Board } from "../api/client";

export type { Board, BoardHead, BoardLane } from "../api/client";

export const form = "nexocumula-board-1";

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

/** A list with one of its members at another place. */
export function movedTo<T>(list: readonly T[], from: number, to: number): T[] {
  const out = [...list];
  const [one] = out.splice(from, 1);
  if (one !== undefined) out.splice(Math.max(0, Math.min(out.length, to)), 0, one);
  return out;
}

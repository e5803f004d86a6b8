import { useState } from "react";
import type { Board, SavedBoard } from "../api/client";

/** What was changed of a board and is not saved. */
export interface Draft {
  board: Board;
  /** The version that was changed. */
  version: number;
  /** When it was last changed, in ms since 1970. */
  at: number;
}

const keyOf = ({ saved }: SavedBoard) => `draft of board ${saved.standard ? saved.about : saved.id}`;

function read(key: string): Draft | undefined {
  try {
    return (JSON.parse(localStorage.getItem(key) ?? "null") as Draft | null) ?? undefined;
  } catch {
    return undefined; // what somebody else wrote there
  }
}

/** Keeps unsaved changes of a board in this browser, over Back, a reload, the end of a session and a tab that is closed. */
export function useDraft(found: SavedBoard) {
  const key = keyOf(found);
  const [restored, setRestored] = useState(() => read(key));
  return {
    restored,
    keep: (board: Board) => {
      const version = restored?.version ?? found.saved.version;
      localStorage.setItem(key, JSON.stringify({ board, version, at: Date.now() } satisfies Draft));
    },
    forget: () => {
      localStorage.removeItem(key);
      setRestored(undefined);
    },
  };
}

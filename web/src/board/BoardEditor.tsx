import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Redo2, Undo2, X } from "lucide-react";
import { useEffect } from "react";
import { useNavigate } from "react-router";
import { ask, Refusal, remove, replace, send, type Board, type SavedBoard } from "../api/client";
import { button, entry, Field, mainButton } from "../parts/Field";
import { Failed } from "../parts/Said";
import { Sure } from "../parts/Sure";
import { AddLane } from "./AddLane";
import { BoardView } from "./BoardView";
import { useDraft } from "./draft";
import { useTime, withTime } from "./useTime";
import { useUndo } from "./useUndo";

interface Props {
  found: SavedBoard;
  about?: string;
  onDone: () => void;
}

/** A board that is edited in place. Nothing counts before it is saved, and every change can be taken back. */
export function BoardEditor({ found, about, onDone }: Props) {
  const { saved } = found;
  const draft = useDraft(found);
  const {
    value: board,
    set,
    undo,
    redo,
    reset,
    canUndo,
    canRedo,
  } = useUndo<Board>(draft.restored?.board ?? found.board);
  const changed = board !== found.board;
  useEffect(() => {
    if (changed) draft.keep(board);
    else if (canRedo) draft.forget(); // all of it was taken back
    // eslint-disable-next-line react-hooks/exhaustive-deps -- only the board is what changes
  }, [board]);
  const { choice } = useTime(board);
  const client = useQueryClient();
  const navigate = useNavigate();
  const keep = useMutation({
    mutationFn: async (how: "save" | "over theirs" | "as new") => {
      const next = withTime(board, choice);
      if (saved.standard || how === "as new") return send("boards", next);
      const version =
        how === "save"
          ? (draft.restored?.version ?? saved.version)
          : (await ask("boards/{board}", { board: String(saved.id) })).saved.version;
      return replace("boards/{board}", version, next, { board: String(saved.id) });
    },
    onSuccess: async (now) => {
      draft.forget();
      await client.invalidateQueries({ queryKey: ["boards"] });
      await client.invalidateQueries({ queryKey: ["board"] });
      void navigate(`/boards/${now.id}${about && board.asks ? `?about=${encodeURIComponent(about)}` : ""}`);
    },
  });
  const away = useMutation({
    mutationFn: () => remove("boards/{board}", { board: String(saved.id) }),
    onSuccess: async () => {
      draft.forget();
      await client.invalidateQueries({ queryKey: ["boards"] });
      await client.invalidateQueries({ queryKey: ["board"] });
      void navigate("/boards");
    },
  });
  const takeTheirs = async () => {
    draft.forget();
    onDone();
    await client.invalidateQueries({ queryKey: ["board"] });
  };
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if (!(e.ctrlKey || e.metaKey) || /^(INPUT|TEXTAREA)$/.test((e.target as HTMLElement).tagName)) return;
      if (e.key === "z") undo();
      else if (e.key === "y") redo();
      else return;
      e.preventDefault();
    };
    addEventListener("keydown", key);
    return () => removeEventListener("keydown", key);
  }, [undo, redo]);
  const lanes = board.lanes ?? [];
  const head = board.head ?? [];
  return (
    <>
      <h1 className="sr-only">Editing {board.title}</h1>
      <div
        className="flex flex-wrap items-end gap-x-3 gap-y-2 rounded-sheet border border-ink bg-sheet px-3 py-2"
        role="group"
        aria-label="Editing"
      >
        <Field label="Name">
          <input
            name="title"
            value={board.title}
            maxLength={200}
            onChange={(e) => set({ ...board, title: e.target.value }, "title")}
            className={`${entry} w-72 font-semibold`}
          />
        </Field>
        <AddLane
          name="Add"
          others
          onAdd={(added) => set({ ...board, lanes: [...lanes, ...added] })}
          onHead={(paths) =>
            set({ ...board, head: [...head, ...paths.map((series) => ({ series, gauge: true }))] })
          }
        />
        {board.about && (
          <button type="button" className={button} onClick={() => set(asking(board))}>
            Use for every station
          </button>
        )}
        <button
          type="button"
          className={button}
          aria-label="Undo"
          title="Undo: Ctrl Z"
          disabled={!canUndo}
          onClick={undo}
        >
          <Undo2 size={16} aria-hidden />
        </button>
        <button
          type="button"
          className={button}
          aria-label="Redo"
          title="Redo: Ctrl Y"
          disabled={!canRedo}
          onClick={redo}
        >
          <Redo2 size={16} aria-hidden />
        </button>
        <span className="ml-auto flex gap-2">
          {!saved.standard && (
            <Sure
              name="Delete board"
              question="The board goes from the list. For 90 days it can come back from there, with its history."
              onYes={() => away.mutate()}
              className={button}
            />
          )}
          <button
            type="button"
            className={button}
            onClick={() => {
              draft.forget();
              onDone();
            }}
          >
            Cancel
          </button>
          <button
            type="button"
            className={mainButton}
            disabled={keep.isPending || !board.title.trim()}
            onClick={() => keep.mutate("save")}
          >
            Save
          </button>
        </span>
      </div>
      <Failed error={keep.error ?? away.error} />
      {keep.error instanceof Refusal && keep.error.code === "changed" && (
        <div className="mt-2 flex flex-wrap gap-2" data-conflict>
          <button type="button" className={button} onClick={() => void takeTheirs()}>
            Take theirs
          </button>
          <button type="button" className={button} onClick={() => keep.mutate("over theirs")}>
            Save mine over theirs
          </button>
          <button type="button" className={button} onClick={() => keep.mutate("as new")}>
            Save mine as a new board
          </button>
        </div>
      )}
      {draft.restored && (
        <p role="status" className="mt-2 flex flex-wrap items-center gap-3" data-restored>
          Unsaved changes of {new Date(draft.restored.at).toLocaleString()} were restored.
          <button
            type="button"
            className={button}
            onClick={() => {
              draft.forget();
              reset(found.board);
            }}
          >
            Discard them
          </button>
        </p>
      )}
      {head.length > 0 && (
        <ul aria-label="In the head" className="mt-2 flex flex-wrap gap-2 text-sm">
          {head.map((h, i) => (
            <li
              key={`${h.series} ${i}`}
              className="flex items-center gap-1 rounded-sheet border border-rule bg-sheet px-2"
            >
              {h.series}
              <label className="ml-1 flex items-center gap-1 text-soft">
                <input
                  type="checkbox"
                  checked={h.gauge === true}
                  onChange={(e) =>
                    set({
                      ...board,
                      head: head.map((o, k) =>
                        k === i ? { ...o, gauge: e.target.checked || undefined } : o,
                      ),
                    })
                  }
                />
                gauge
              </label>
              <button
                type="button"
                aria-label={`Take ${h.series} out of the head`}
                onClick={() => set({ ...board, head: head.filter((_, k) => k !== i) })}
              >
                <X size={14} aria-hidden />
              </button>
            </li>
          ))}
        </ul>
      )}
      <BoardView board={board} about={about} onChange={set} />
    </>
  );
}

/** A board about a place as one that asks for it. */
export function asking(board: Board): Board {
  const about = board.about ?? "";
  const asks = about.includes("/") ? "station" : "site";
  const put = (text: string) =>
    text === about || text.startsWith(about + "/") ? `{${asks}}${text.slice(about.length)}` : text;
  return {
    ...board,
    about: undefined,
    asks,
    title: `Every ${asks}`,
    head: board.head?.map((h) => ({ ...h, series: put(h.series) })),
    lanes: board.lanes?.map((l) => ({
      ...l,
      series: l.series?.map(put),
      calculate: l.calculate && {
        ...l.calculate,
        inputs: Object.fromEntries(Object.entries(l.calculate.inputs).map(([n, p]) => [n, put(p)])),
      },
    })),
  };
}

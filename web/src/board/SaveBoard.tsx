import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import type { Board, BoardVersion } from "../api/client";
import { button, entry, Field, mainButton } from "../parts/Field";
import { Modal } from "../parts/Modal";
import { Failed } from "../parts/Said";
import { useTime, withTime } from "./useTime";

interface Props {
  board: Board;
  name: string;
  save: (board: Board) => Promise<BoardVersion>;
  onSaved: (saved: BoardVersion) => void;
}

/** Keeps a board at the service, with a name and the time it shows. */
export function SaveBoard({ board, name, save, onSaved }: Props) {
  const client = useQueryClient();
  const { choice } = useTime(board);
  const [open, setOpen] = useState(false);
  const [title, setTitle] = useState(board.title === "Trends" ? "" : board.title);
  const [asks, setAsks] = useState(board.asks ?? "");
  const keep = useMutation({
    mutationFn: () =>
      save({ ...withTime(board, choice), title: title.trim(), asks: asks === "" ? undefined : asks }),
    onSuccess: async (saved) => {
      setOpen(false);
      await client.invalidateQueries({ queryKey: ["boards"] });
      onSaved(saved);
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    keep.mutate();
  };
  const placed = JSON.stringify(board).match(/\{(site|station)\}/);
  return (
    <>
      <button type="button" className={button} onClick={() => setOpen(true)}>
        {name}
      </button>
      {open && (
        <Modal title={name} onClose={() => setOpen(false)}>
          <form onSubmit={submit} className="flex flex-col gap-3">
            <Field label="Name">
              <input
                name="title"
                required
                maxLength={200}
                value={title}
                onChange={(e) => setTitle(e.target.value)}
                className={entry}
              />
            </Field>
            {!board.about && (
              <Field
                label="Asks for"
                hint="A board that asks for a place serves all alike: write {site} or {station} in place of it in its series."
              >
                <select
                  name="asks"
                  value={asks}
                  onChange={(e) => setAsks(e.target.value as typeof asks)}
                  className={entry}
                >
                  <option value="">nothing</option>
                  <option value="site">a site</option>
                  <option value="station">a station</option>
                </select>
              </Field>
            )}
            {placed && !board.about && asks === "" && (
              <p className="text-sm text-stale">
                It names {placed[0]}, so it has to ask for a {placed[1]}.
              </p>
            )}
            <Failed error={keep.error} />
            <button
              type="submit"
              className={`${mainButton} self-end`}
              disabled={!title.trim() || keep.isPending}
            >
              Save
            </button>
          </form>
        </Modal>
      )}
    </>
  );
}

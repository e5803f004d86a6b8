import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useRef, useState, type ChangeEvent } from "react";
import { useNavigate } from "react-router";
import { send, type Board, type BoardVersion } from "../api/client";
import { has, useSession } from "../api/hooks";
import { form } from "../board/board";
import { addressOfBoard, useBoards } from "../board/useBoards";
import { button, linkButton, search } from "../parts/Field";
import { Link } from "../parts/Link";
import { Failed } from "../parts/Said";
import { cell, row, Table } from "../parts/Table";
import { Nothing, PageWaiting } from "../parts/Waiting";
import { longTime } from "../time/format";
import { viewerZone } from "../time/zone";

/** The boards there are: those that people saved, and those that places have from the start. */
export function BoardsPage() {
  const [text, setText] = useState("");
  const [removed, setRemoved] = useState(false);
  const [walled, setWalled] = useState<string[]>([]);
  const boards = useBoards(text, removed);
  const mayChange = has(useSession().data, "operator");
  const all = boards.data?.boards ?? [];
  const key = (b: BoardVersion) => (b.standard ? `of:${b.about}` : String(b.id));
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-2xl font-semibold">Boards</h1>
        <input
          type="search"
          aria-label="Show only boards with these words"
          placeholder="Show only, such as raceway"
          value={text}
          onChange={(e) => setText(e.target.value)}
          className={search}
        />
        {mayChange && <NewBoard />}
        {mayChange && <ImportBoard />}
        <button type="button" aria-pressed={removed} className={button} onClick={() => setRemoved(!removed)}>
          {removed ? "Show current" : "Show removed"}
        </button>
        {walled.length > 0 && (
          <Link to={`/wall?${new URLSearchParams(walled.map((w) => ["board", w]))}`} className={linkButton}>
            {walled.length === 1 ? "On the wall" : `${walled.length} by turns on the wall`}
          </Link>
        )}
      </div>
      <Failed error={boards.error} />
      {boards.isPending && <PageWaiting>Loading the boards …</PageWaiting>}
      {boards.data && all.length === 0 && (
        <Nothing>
          {removed
            ? "No board was removed in the last 90 days."
            : "No board has that in its title or place. Every site and station gets one with its first series; Trends can be kept as one."}
        </Nothing>
      )}
      {all.length > 0 && (
        <div className="print:[&_td:first-child]:hidden print:[&_th:first-child]:hidden">
          <Table head={["wall", "board", "of", "saved", "by"]}>
            {all.map((b) => (
              <tr key={key(b)} className={row} data-board={key(b)}>
                <td className={cell}>
                  <input
                    type="checkbox"
                    aria-label={`${b.title} on the wall`}
                    disabled={b.removed || b.asks !== ""}
                    checked={walled.includes(key(b))}
                    onChange={(e) =>
                      setWalled(e.target.checked ? [...walled, key(b)] : walled.filter((w) => w !== key(b)))
                    }
                  />
                </td>
                <td className={cell}>
                  <Link
                    to={addressOfBoard(b)}
                    className="font-semibold underline decoration-rule underline-offset-4 hover:decoration-water"
                  >
                    {b.title}
                  </Link>
                </td>
                <td className={`${cell} text-soft`}>{b.about || (b.asks ? `any ${b.asks}` : "")}</td>
                <td className={`${cell} whitespace-nowrap text-soft`}>
                  {b.saved_at
                    ? `${longTime(Date.parse(b.saved_at), viewerZone())}, version ${b.version}`
                    : "from the start"}
                </td>
                <td className={`${cell} text-soft`}>{b.author}</td>
              </tr>
            ))}
          </Table>
        </div>
      )}
    </>
  );
}

const empty: Board = { form, title: "New board", range: { last: "1d" }, head: [], lanes: [] };

function NewBoard() {
  const client = useQueryClient();
  const navigate = useNavigate();
  const add = useMutation({
    mutationFn: () => send("boards", empty),
    onSuccess: async (saved) => {
      await client.invalidateQueries({ queryKey: ["boards"] });
      void navigate(`/boards/${saved.id}?edit=yes`);
    },
  });
  return (
    <>
      <button type="button" className={button} disabled={add.isPending} onClick={() => add.mutate()}>
        New board
      </button>
      <Failed error={add.error} />
    </>
  );
}

function ImportBoard() {
  const client = useQueryClient();
  const file = useRef<HTMLInputElement>(null);
  const [said, setSaid] = useState("");
  const add = useMutation({
    mutationFn: async (chosen: File) => {
      let board: unknown;
      try {
        board = JSON.parse(await chosen.text());
      } catch (cause) {
        throw new Error(`${chosen.name} is no JSON: ${cause instanceof Error ? cause.message : ""}`, {
          cause,
        });
      }
      return send("boards", board as Board); // the service says what is wrong with it
    },
    onSuccess: async (saved) => {
      setSaid(`“${saved.title}” was imported.`);
      await client.invalidateQueries({ queryKey: ["boards"] });
    },
  });
  const chosen = (e: ChangeEvent<HTMLInputElement>) => {
    const one = e.target.files?.[0];
    if (one) add.mutate(one);
    e.target.value = "";
  };
  return (
    <>
      <input
        ref={file}
        type="file"
        accept="application/json,.json"
        aria-label="A board as a JSON file"
        className="sr-only"
        tabIndex={-1}
        onChange={chosen}
      />
      <button type="button" className={button} onClick={() => file.current?.click()}>
        Import …
      </button>
      {said && !add.error && (
        <p role="status" className="text-good">
          {said}
        </p>
      )}
      <Failed error={add.error} />
    </>
  );
}

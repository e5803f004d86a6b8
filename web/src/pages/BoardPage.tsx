import { useEffect, useMemo, useState } from "react";
import { useParams, useSearchParams } from "react-router";
import type { SavedBoard } from "../api/client";
import { has, useCatalogue, useSession } from "../api/hooks";
import { BoardEditor } from "../board/BoardEditor";
import { BoardHistory } from "../board/BoardHistory";
import { BoardView } from "../board/BoardView";
import { useBoard } from "../board/useBoards";
import { pathWords } from "../format";
import { button, linkButton } from "../parts/Field";
import { Link } from "../parts/Link";
import { Failed } from "../parts/Said";
import { Nothing, PageWaiting } from "../parts/Waiting";
import { fileName, save } from "../picture/save";

/** One board, looked at or edited in place. */
export function BoardPage() {
  const { board: id = "" } = useParams();
  const [params] = useSearchParams();
  const found = useBoard(id, params.get("about") ?? undefined, params.get("version") ?? "");
  return (
    <>
      {found.isPending && <PageWaiting>Loading the board …</PageWaiting>}
      <Failed error={found.error} />
      {found.data && (
        <Shown
          key={`${found.data.saved.id} ${found.data.saved.version} ${found.data.saved.about}`}
          found={found.data}
        />
      )}
    </>
  );
}

function Shown({ found }: { found: SavedBoard }) {
  const { board, saved } = found;
  const [params, setParams] = useSearchParams();
  const session = useSession().data;
  const [history, setHistory] = useState(false);
  const about = board.asks ? (params.get("about") ?? undefined) : board.about;
  const edits = params.get("edit") === "yes" && has(session, "operator");
  useEffect(() => {
    document.title = `${board.title} – Nexocumula`;
  }, [board.title]);
  const put = (name: string, value: string) =>
    setParams((p) => {
      if (value) p.set(name, value);
      else p.delete(name);
      return p;
    });
  if (edits) return <BoardEditor found={found} about={about} onDone={() => put("edit", "")} />;
  const place = board.asks && about ? `,of:${about}` : "";
  const wall = saved.standard ? `of:${saved.about}` : `${saved.id}${place}`;
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-3 gap-y-2">
        <h1 className="text-2xl font-semibold">{board.title}</h1>
        {board.asks && <PlaceChooser asks={board.asks} about={about} onChoose={(a) => put("about", a)} />}
        {saved.removed && <p className="rounded-sheet bg-stale-wash px-2 text-stale">removed</p>}
        <span className="ml-auto flex flex-wrap gap-2 print:hidden">
          {has(session, "operator") && (
            <button type="button" className={button} onClick={() => put("edit", "yes")}>
              Edit
            </button>
          )}
          {!saved.standard && (
            <button type="button" className={button} onClick={() => setHistory(true)}>
              History
            </button>
          )}
          <button
            type="button"
            className={button}
            onClick={() =>
              save(
                new Blob([JSON.stringify(board, null, 2) + "\n"], { type: "application/json" }),
                `${fileName(board.title)}.json`,
              )
            }
          >
            Export
          </button>
          {(!board.asks || about) && (
            <Link to={`/wall?board=${encodeURIComponent(wall)}`} className={linkButton}>
              On the wall
            </Link>
          )}
        </span>
      </div>
      {board.asks && !about && (
        <Nothing>This board is the same for every {board.asks}; choose one above.</Nothing>
      )}
      {(!board.asks || about) && <BoardView board={board} about={about} />}
      {(board.lanes ?? []).length === 0 && (board.head ?? []).length === 0 && (
        <Nothing>This board is empty. Edit puts lanes and present values on it.</Nothing>
      )}
      {history && <BoardHistory saved={saved} onClose={() => setHistory(false)} />}
    </>
  );
}

interface ChooserProps {
  asks: "site" | "station" | "";
  about?: string;
  onChoose: (about: string) => void;
}

function PlaceChooser({ asks, about, onChoose }: ChooserProps) {
  const catalogue = useCatalogue();
  const places = useMemo(() => {
    const out = new Set<string>();
    for (const path of catalogue?.keys() ?? []) {
      if (path.endsWith("/quality")) continue;
      const levels = path.split("/");
      out.add(asks === "site" ? (levels[0] ?? "") : levels.slice(0, -1).join("/"));
    }
    return [...out].filter(Boolean).sort();
  }, [catalogue, asks]);
  return (
    <select
      aria-label={`Which ${asks}`}
      value={about ?? ""}
      onChange={(e) => onChoose(e.target.value)}
      className="h-9 rounded-sheet border border-rule bg-sheet px-2"
    >
      <option value="">choose a {asks}</option>
      {places.map((p) => (
        <option key={p} value={p}>
          {pathWords(p)}
        </option>
      ))}
    </select>
  );
}

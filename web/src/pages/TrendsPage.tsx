import { useEffect, useMemo } from "react";
import { useLocation, useNavigate } from "react-router";
import { send, type Board } from "../api/client";
import { has, useCatalogue, useSession } from "../api/hooks";
import { AddLane } from "../board/AddLane";
import { readLanes, writeLanes } from "../board/address";
import { BoardView } from "../board/BoardView";
import { kindFor } from "../lanes/kinds";
import { SaveBoard } from "../board/SaveBoard";
import { Starts } from "../board/Starts";
import { Failed } from "../parts/Said";
import { Nothing } from "../parts/Waiting";

/** Lanes of picked series below one time axis; the address says which. */
export function TrendsPage() {
  const location = useLocation();
  const navigate = useNavigate();
  const catalogue = useCatalogue();
  const session = useSession().data;
  const { board, plain, wrong } = useMemo(
    () => readLanes(new URLSearchParams(location.search)),
    [location.search],
  );
  const show = (next: Board, replace = false) => {
    const params = new URLSearchParams(location.search);
    writeLanes(params, next);
    void navigate(`/trends?${params}`, { replace, state: location.state as unknown });
  };
  // A link to plain series: their kinds say which lanes they become.
  useEffect(() => {
    if (plain.length === 0 || !catalogue) return;
    const lanes = plain.map((path) => ({ kind: kindFor(catalogue.get(path)), series: [path] }));
    show({ ...board, lanes: [...(board.lanes ?? []), ...lanes] }, true);
  });
  const lanes = board.lanes ?? [];
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-2xl font-semibold">Trends</h1>
        <AddLane
          name="Pick series"
          onAdd={(added) => show({ ...board, lanes: [...lanes, ...added] })}
          onHead={(paths) =>
            show({
              ...board,
              head: [...(board.head ?? []), ...paths.map((series) => ({ series, gauge: true }))],
            })
          }
        />
        {lanes.length > 0 && has(session, "operator") && (
          <SaveBoard
            board={board}
            name="Keep as a board"
            save={(b) => send("boards", b)}
            onSaved={(saved) => void navigate(`/boards/${saved.id}`)}
          />
        )}
      </div>
      {wrong && <Failed error={new Error(wrong)} />}
      {lanes.length === 0 && plain.length === 0 ? (
        <>
          <Nothing>
            <p>
              Pick the series to look at. Each gets a lane below one time axis: a line with the band from
              lowest to highest, so that a spike stays in sight however wide the windows are; a total as bars
              of its growth, a state as a strip, a direction by the points of the compass.
            </p>
          </Nothing>
          <Starts />
        </>
      ) : (
        <BoardView board={board} onChange={(b) => show(b)} />
      )}
    </>
  );
}

import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";
import { useHealth } from "../api/hooks";
import { useBoard } from "../board/useBoards";
import { live } from "../live/store";
import { useClock } from "../live/useClock";
import { useStanding } from "../live/useLive";
import { Link } from "../parts/Link";
import { PageWaiting } from "../parts/Waiting";
import { clockAhead } from "../time/clock";
import { length } from "../time/duration";
import { Bar } from "../wall/Bar";
import { useAwake } from "../wall/useAwake";
import { WallBoard } from "../wall/WallBoard";

const usualTurn = 30; // s
const heardWithin = 30_000; // the stream says something each second
const refreshEvery = 300_000; // ms; boards are changed by others

/** Boards that take turns, for people who stand across the room. */
export function WallPage() {
  const [params] = useSearchParams();
  const boards = params.getAll("board");
  const turn = Math.min(3600, Math.max(5, Number(params.get("turn")) || usualTurn));
  const clock = useClock(5000);
  const standing = useStanding();
  const [shown, setShown] = useState({ turn: 0, page: 0 });
  const [pages, setPages] = useState(1);
  const number = shown.turn % Math.max(1, boards.length);
  const page = Math.min(shown.page, pages - 1);
  useEffect(() => {
    if (boards.length < 2 && pages < 2) return;
    const next = page + 1 < pages ? { turn: shown.turn, page: page + 1 } : { turn: shown.turn + 1, page: 0 };
    const timer = setTimeout(() => setShown(next), turn * 1000);
    return () => clearTimeout(timer);
  }, [shown.turn, page, pages, boards.length, turn]);
  useAwake();
  const silent = clock - clockAhead() - live.heard;
  const away = standing !== "connecting" && (standing === "lost" || silent > heardWithin);
  const current = boards[number];
  return (
    <div data-wall>
      {away && (
        <p
          role="alert"
          className="fixed inset-x-0 top-0 z-20 bg-bad px-4 py-3 text-4xl font-semibold text-paper"
          data-away
        >
          No connection for {length(Math.max(0, silent))}. The values shown are old.
        </p>
      )}
      <div className={away ? "opacity-50 grayscale" : ""}>
        {current === undefined ? (
          <p className="p-8">
            No board was chosen. Tick some on{" "}
            <Link to="/boards" className="underline">
              Boards
            </Link>
            .
          </p>
        ) : (
          <Turn
            key={current}
            of={current}
            turn={boards.length > 1 ? `board ${number + 1} of ${boards.length}` : ""}
            page={page}
            pages={pages}
            onPages={setPages}
          />
        )}
      </div>
    </div>
  );
}

interface TurnProps {
  /** A board's number, "of:" and a place, or a number, a comma, and "of:" and the place it is shown for. */
  of: string;
  turn: string;
  page: number;
  pages: number;
  onPages: (pages: number) => void;
}

function Turn({ of, turn, page, pages, onPages }: TurnProps) {
  const [, id = "", place] = /^(\d*),?(?:of:(.*))?$/.exec(of) ?? [];
  const found = useBoard(id || "place", place, "", refreshEvery);
  const health = useHealth().data;
  const clock = useClock(5000);
  if (!found.data)
    return found.error ? (
      <p className="p-8 text-bad">{found.error.message}</p>
    ) : (
      <PageWaiting>Loading the board …</PageWaiting>
    );
  const { board } = found.data;
  const more = pages > 1 ? `page ${page + 1} of ${pages}` : "";
  return (
    <WallBoard board={board} about={board.asks ? place : board.about} page={page} onPages={onPages}>
      <Bar
        title={board.title}
        said={[turn, more].filter(Boolean).join(", ")}
        clock={clock}
        zone={health?.zone ?? "UTC"}
        site={health?.site ?? ""}
      />
    </WallBoard>
  );
}

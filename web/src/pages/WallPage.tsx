import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";
import { ask, type SavedBoard } from "../api/client";
import { BoardView } from "../board/BoardView";
import { live } from "../live/store";
import { useClock } from "../live/useClock";
import { useStanding } from "../live/useLive";
import { Link } from "../parts/Link";
import { PageWaiting } from "../parts/Waiting";
import { length } from "../time/duration";
import { longTime } from "../time/format";
import { zoneText } from "../time/zone";
import { useHealth } from "../api/hooks";

const usualTurn = 30; // s
const heardWithin = 30_000; // the stream says something each second

/** Boards that take turns, for people who stand across the room. */
export function WallPage() {
  const [params] = useSearchParams();
  const boards = params.getAll("board");
  const turn = Math.min(3600, Math.max(5, Number(params.get("turn")) || usualTurn));
  const clock = useClock(5000);
  const health = useHealth();
  const standing = useStanding();
  const zone = health.data?.zone ?? "UTC";
  const [shown, setShown] = useState(0);
  useEffect(() => {
    if (boards.length < 2) return;
    const timer = setInterval(() => setShown((n) => (n + 1) % boards.length), turn * 1000);
    return () => clearInterval(timer);
  }, [boards.length, turn]);
  useEffect(() => {
    let lock: WakeLockSentinel | undefined;
    let over = false;
    const keepAwake = async () => {
      try {
        lock = await navigator.wakeLock?.request("screen");
        if (over) await lock?.release();
      } catch {
        // A machine that does not allow it goes dark as its own settings say.
      }
    };
    void keepAwake();
    return () => {
      over = true;
      void lock?.release();
    };
  }, []);
  const silent = clock - live.ahead - live.heard;
  const away = standing !== "connecting" && (standing === "lost" || silent > heardWithin);
  const current = boards[shown % Math.max(1, boards.length)];
  return (
    <div className="min-h-screen p-3" data-wall>
      <div className="flex items-baseline gap-4 text-soft">
        <span className="text-2xl font-semibold text-ink">{longTime(clock, zone)}</span>
        <span>{zoneText(zone, clock)}</span>
        <span>{health.data?.site}</span>
        {boards.length > 1 && (
          <span>
            {(shown % boards.length) + 1} of {boards.length}
          </span>
        )}
        <span className="ml-auto flex gap-3">
          <button type="button" onClick={() => void document.documentElement.requestFullscreen?.()}>
            Full screen
          </button>
          <Link to="/boards">Leave the wall</Link>
        </span>
      </div>
      {away && (
        <p role="alert" className="my-3 bg-bad px-4 py-3 text-4xl font-semibold text-paper" data-away>
          No connection for {length(Math.max(0, silent))}: what stands here is old
        </p>
      )}
      {current === undefined ? (
        <p className="mt-8">
          No board was chosen. Tick some on{" "}
          <Link to="/boards" className="underline">
            Boards
          </Link>
          .
        </p>
      ) : (
        <div style={{ zoom: 1.5 }} className={away ? "opacity-50 grayscale" : ""}>
          <Turn key={current} of={current} />
        </div>
      )}
    </div>
  );
}

function Turn({ of }: { of: string }) {
  const place = of.startsWith("of:") ? of.slice(3) : undefined;
  const found = useQuery({
    queryKey: ["wall", of],
    queryFn: () =>
      place === undefined
        ? ask<SavedBoard>(`boards/${encodeURIComponent(of)}`)
        : ask<SavedBoard>("boards/standard", { about: place }),
    refetchInterval: 300_000, // what was changed meanwhile
  });
  if (!found.data)
    return found.error ? (
      <p className="mt-8 text-bad">{found.error.message}</p>
    ) : (
      <PageWaiting>Loading the board …</PageWaiting>
    );
  return (
    <>
      <h1 className="my-1 text-xl font-semibold">{found.data.board.title}</h1>
      <BoardView board={found.data.board} about={found.data.board.about} bare />
    </>
  );
}

import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { ask, type BoardVersion } from "../api/client";

export function useBoards(text: string, removed = false) {
  return useQuery({
    queryKey: ["boards", text, removed],
    queryFn: () =>
      ask("boards", {
        ...(text && { text }),
        ...(removed && { removed: "true" }),
      }),
    placeholderData: keepPreviousData,
  });
}

/** A board by its number, or that of a place: the one saved for it, else the one it has from the start. */
export function useBoard(
  id: string,
  about: string | undefined,
  version = "",
  refetchInterval: number | false = false,
) {
  const place = id === "place";
  const boards = useBoards("");
  const saved = boards.data?.boards.find((b) => b.about === about && !b.standard);
  const number = place ? (saved ? String(saved.id) : undefined) : id;
  const known = !place || boards.data !== undefined;
  return useQuery({
    queryKey: ["board", number ?? `of ${about ?? ""}`, version],
    queryFn: () =>
      number === undefined
        ? ask("boards/standard", { about: about ?? "" })
        : ask("boards/{board}", { board: number, ...(version && { version }) }),
    enabled: known,
    staleTime: 30_000,
    refetchInterval,
  });
}

/** Where a board is. */
export const addressOfBoard = (b: Pick<BoardVersion, "id" | "about" | "standard">) =>
  b.standard ? `/boards/place?about=${encodeURIComponent(b.about)}` : `/boards/${b.id}`;

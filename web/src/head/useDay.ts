import { useQuery } from "@tanstack/react-query";
import { ask } from "../api/client";
import { rowsOf, type Row } from "../lanes/rows";

/** The last day of a series in quarters of an hour, with what it was lowest and highest at. */
export function useDay(path: string, enabled = true): Row | undefined {
  const answer = useQuery({
    queryKey: ["day", path],
    queryFn: async ({ signal }) => {
      const found = await ask(
        "windows",
        { select: path, last: "1d", width: "15m", stats: "mean,min,max,last,count" },
        signal,
      );
      return rowsOf(found)[0];
    },
    enabled,
    refetchInterval: 60_000,
    staleTime: 30_000,
  });
  return answer.data ?? undefined;
}

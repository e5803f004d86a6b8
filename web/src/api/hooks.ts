import { keepPreviousData, QueryClient, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo } from "react";
import { again, ask, Refusal, type Series, type Session } from "./client";
import { sessionEnded } from "../signal";

/** What cannot be answered now is asked again by itself; a refusal stays one. */
export function newQueries(): QueryClient {
  return new QueryClient({
    defaultOptions: {
      queries: {
        retry: again,
        retryDelay: (count) => Math.min(10_000, 500 * 2 ** count),
        networkMode: "always",
        staleTime: 1500, // parts of a page that ask for the same share an answer
      },
      mutations: { retry: false, networkMode: "always" },
    },
  });
}

/** All series, page by page. */
async function allSeries(): Promise<{ series: Series[] }> {
  let page = await ask("series");
  const series = page.series;
  while (page.next) {
    page = await ask("series", { cursor: page.next });
    series.push(...page.series);
  }
  return { series };
}

const seriesQuery = { queryKey: ["series"], queryFn: allSeries };
const sessionQuery = { queryKey: ["session"], queryFn: () => ask("session") };
const seenBefore = "seen";

/** Asks for what every page needs before the first is drawn, until all of it has come. What only those
 *  who are logged in may see is asked for where that worked the last time. */
export async function askAhead(client: QueryClient) {
  const asked = [client.prefetchQuery(sessionQuery)];
  if (localStorage.getItem(seenBefore)) asked.push(client.prefetchQuery(seriesQuery));
  await Promise.all(asked);
}

/** Notes whether this viewer may see the pages. */
export function noteSeen(seen: boolean) {
  if (seen) localStorage.setItem(seenBefore, "yes");
  else localStorage.removeItem(seenBefore);
}

export function useSeries() {
  return useQuery({ ...seriesQuery, refetchInterval: 30_000 });
}

/** The series by their paths. */
export function useCatalogue(): Map<string, Series> | undefined {
  const series = useSeries().data?.series;
  return useMemo(() => series && new Map(series.map((s) => [s.path, s])), [series]);
}

export function useUplinks() {
  return useQuery({ queryKey: ["uplinks"], queryFn: () => ask("uplinks"), refetchInterval: 1000 });
}

export function useRequests(query: Record<string, string>) {
  return useQuery({
    queryKey: ["requests", query],
    queryFn: () => ask("requests", query),
    refetchInterval: 2000,
  });
}

export function useLinkHistory(query: Record<string, string>) {
  return useQuery({
    queryKey: ["links", query],
    queryFn: () => ask("links", query),
    refetchInterval: 15_000,
    placeholderData: keepPreviousData,
  });
}

export function useNotes(query: Record<string, string>) {
  return useQuery({
    queryKey: ["notes", query],
    queryFn: () => ask("notes", query),
    refetchInterval: 30_000,
    placeholderData: keepPreviousData,
  });
}

export function useHealth() {
  return useQuery({
    queryKey: ["health"],
    queryFn: async () => {
      const health = await ask("health");
      if (!("version" in health)) {
        sessionEnded.tell();
        throw new Refusal("login", "log in first");
      }
      return health;
    },
    refetchInterval: 5000,
  });
}

/** Who looks, and what he may do; asked anew when a call says that nobody is logged in any more. */
export function useSession() {
  const client = useQueryClient();
  useEffect(() => {
    return sessionEnded.listen(() => void client.invalidateQueries({ queryKey: ["session"] }));
  }, [client]);
  return useQuery({ ...sessionQuery, refetchInterval: 60_000 });
}

const roles = ["anyone", "viewer", "operator", "engineer", "administrator"];

/** Whether somebody has a role. */
export function has(session: Session | undefined, role: string): boolean {
  return session !== undefined && roles.indexOf(session.role) >= roles.indexOf(role);
}

/** Whether somebody may do what a role is needed for, of all that the service holds. */
export function may(session: Session | undefined, role: string): boolean {
  return has(session, role) && session?.whole === true;
}

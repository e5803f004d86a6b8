import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { ask, type Health, type Series, type Session, type Uplinks, type Windows } from "./client";
import { viewOf } from "../kinds";
import type { Range } from "../range";

export function useSeries() {
  return useQuery({
    queryKey: ["series"],
    queryFn: () => ask<{ series: Series[] }>("series"),
    refetchInterval: 30_000,
  });
}

export function useUplinks() {
  return useQuery({ queryKey: ["uplinks"], queryFn: () => ask<Uplinks>("uplinks"), refetchInterval: 1000 });
}

export function useHealth() {
  return useQuery({ queryKey: ["health"], queryFn: () => ask<Health>("health"), refetchInterval: 5000 });
}

/** Who looks, and what he may do; asked anew when a call says that nobody is logged in any more. */
export function useSession() {
  const client = useQueryClient();
  useEffect(() => {
    const again = () => void client.invalidateQueries({ queryKey: ["session"] });
    addEventListener("loggedout", again);
    return () => removeEventListener("loggedout", again);
  }, [client]);
  return useQuery({ queryKey: ["session"], queryFn: () => ask<Session>("session"), refetchInterval: 60_000 });
}

const roles = ["anyone", "viewer", "operator", "engineer", "administrator"];

/** Whether somebody may do what a role is needed for, of all that the service holds. */
export function may(session: Session | undefined, role: string): boolean {
  return session !== undefined && session.whole && roles.indexOf(session.role) >= roles.indexOf(role);
}

/** Windows of one series, with the stats that its kind calls for; a range up to now is
 *  asked for again every ten seconds. */
export function useWindows(path: string, range: Range) {
  const all = useSeries().data?.series;
  const kind = all?.find((s) => s.path === path)?.kind ?? "gauge"; // the service names what is near an unknown one
  const query: Record<string, string> = { select: path, stats: [...viewOf(kind).stats, "count"].join(",") };
  if (range.last !== undefined) {
    query.last = range.last;
  } else {
    query.from = new Date(range.from).toISOString();
    query.to = new Date(range.to).toISOString();
  }
  return useQuery({
    queryKey: ["windows", query],
    queryFn: () => ask<Windows>("windows", query),
    enabled: all !== undefined,
    refetchInterval: range.last ? 10_000 : false,
    placeholderData: keepPreviousData,
  });
}

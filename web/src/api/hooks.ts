import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { ask, type Health, type Series, type Uplinks, type Windows } from "./client";
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

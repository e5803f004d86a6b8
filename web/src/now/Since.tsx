import { useQuery } from "@tanstack/react-query";
import { ask } from "../api/client";
import { useHealth } from "../api/hooks";
import { zoneOf } from "../board/useTime";
import { usePreferences } from "../preferences";
import { shortTime } from "../time/format";
import { dayStart } from "../time/zone";
import type { Happened } from "./happened";

/** Since when a series has been outside its normal range, or that it has been for a day. */
export function Since({ path }: { path: string }) {
  const zone = zoneOf(usePreferences().zone, useHealth().data?.zone ?? "UTC");
  const happened = useQuery({
    queryKey: ["since", path],
    queryFn: ({ signal }) => ask<Happened>("excursions", { select: path, last: "1d" }, signal),
    refetchInterval: 60_000,
    staleTime: 60_000,
  }).data;
  const open = happened?.excursions.filter((e) => !e.over) ?? [];
  if (!happened || open.length === 0) return null;
  const since = Math.min(...open.map((e) => Date.parse(e.from)));
  const [from, to] = [Date.parse(happened.from), Date.parse(happened.to)];
  return (
    <span className="text-sm text-soft">
      {since <= from
        ? ", for more than 24 h"
        : `, since ${shortTime(since, zone, dayStart(since, zone) === dayStart(to, zone) ? { from: 0, to: 1 } : undefined)}`}
    </span>
  );
}

import { useQuery } from "@tanstack/react-query";
import { ask } from "../api/client";
import { age } from "../format";
import { ConditionMark } from "./SeriesRow";

interface Props {
  path: string;
  condition: "unusual" | "critical";
  now: number;
}

/** That a series is outside its normal range, and for how long, as far as the past day tells. */
export function OutsideMark({ path, condition, now }: Props) {
  const happened = useQuery({
    queryKey: ["outside", path],
    queryFn: ({ signal }) => ask("excursions", { select: path, last: "1d" }, signal),
    refetchInterval: 60_000,
    staleTime: 60_000,
  }).data;
  const open = happened?.excursions.filter((e) => !e.over) ?? [];
  if (!happened || open.length === 0) return <ConditionMark condition={condition} old={0} />;
  const since = Math.min(...open.map((e) => Date.parse(e.from)));
  const long = since <= Date.parse(happened.from) ? "> 24 h" : age(now - since);
  return <ConditionMark condition={condition} old={0} since={long} />;
}

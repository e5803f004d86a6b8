import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo } from "react";
import { useSearchParams } from "react-router";
import { ask, send } from "../api/client";
import { useHealth } from "../api/hooks";
import { zoneOf } from "../board/useTime";
import { count } from "../format";
import { useClock } from "../live/useClock";
import { button, entry, search } from "../parts/Field";
import { Failed } from "../parts/Said";
import { Table } from "../parts/Table";
import { Nothing, PageWaiting } from "../parts/Waiting";
import { usePreferences } from "../preferences";
import { columns, GroupRows } from "../rejects/GroupRows";
import { groupsOf } from "../rejects/groups";
import { OfGateways } from "../rejects/OfGateways";
import { OneReject } from "../rejects/OneReject";
import { OverTime } from "../rejects/OverTime";
import { stepsOf } from "../rejects/hours";
import { zoneText } from "../time/zone";
import { serviceNow } from "../time/clock";

const ranges = [
  { last: 1, name: "last day", hours: 1 },
  { last: 7, name: "last 7 days", hours: 6 },
  { last: 30, name: "last 30 days", hours: 24 },
];

/** How many rejects are listed, by groups, at most. */
const most = 250;

/** What did not count, and why: over time, and one by one. */
export function RejectsPage() {
  const [params, setParams] = useSearchParams();
  const rule = params.get("rule") ?? "";
  const source = params.get("source") ?? "";
  const select = params.get("select") ?? "";
  const id = params.get("id");
  const range = ranges.find((r) => String(r.last) === params.get("days")) ?? ranges[0];
  const put = (name: string, value: string) =>
    setParams((p) => {
      if (value) p.set(name, value);
      else p.delete(name);
      return p;
    });
  const zone = zoneOf(usePreferences().zone, useHealth().data?.zone ?? "UTC");
  const client = useQueryClient();
  const clock = useClock(60_000);
  const days = range?.last ?? 1;
  const counts = useQuery({
    queryKey: ["reject-counts", days],
    queryFn: () =>
      ask("rejects/counts", {
        from: new Date(serviceNow() - days * 86_400_000).toISOString().slice(0, 19) + "Z",
      }),
    refetchInterval: 10_000,
    placeholderData: keepPreviousData,
  });
  const query = {
    limit: String(most),
    ...(rule && { rule }),
    ...(source && { source }),
    ...(select && { select }),
  };
  const rejects = useQuery({
    queryKey: ["rejects", query],
    queryFn: () => ask("rejects", query),
    refetchInterval: 10_000,
    placeholderData: keepPreviousData,
  });
  const replay = useMutation({
    mutationFn: () => send("rejects/replay", { rule, source, select }),
    onSuccess: () => client.invalidateQueries({ queryKey: ["rejects"] }),
  });
  const byRule = useMemo(
    () => (counts.data ? stepsOf(counts.data, range?.hours ?? 1, "rule") : []),
    [counts.data, range],
  );
  const bySource = useMemo(
    () => (counts.data ? stepsOf(counts.data, range?.hours ?? 1, "source") : []),
    [counts.data, range],
  );
  const any = byRule.some((s) => s.all > 0);
  const all = rejects.data?.rejects ?? [];
  const groups = useMemo(() => groupsOf(rejects.data?.rejects ?? []), [rejects.data]);
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-2xl font-semibold">Rejects</h1>
        <select
          aria-label="Which time"
          value={range?.last}
          onChange={(e) => put("days", e.target.value)}
          className={entry}
        >
          {ranges.map((r) => (
            <option key={r.last} value={r.last}>
              {r.name}
            </option>
          ))}
        </select>
        <input
          type="search"
          aria-label="Only of series that a selector names"
          placeholder="Only series, such as stony-beck/+/oxygen"
          defaultValue={select}
          onKeyDown={(e) => e.key === "Enter" && put("select", e.currentTarget.value.trim())}
          onBlur={(e) => put("select", e.currentTarget.value.trim())}
          className={search}
        />
      </div>
      <OfGateways />
      <Failed error={counts.error ?? rejects.error ?? replay.error} />
      {counts.isPending && <PageWaiting />}
      {counts.data && !any && <Nothing>Nothing was refused in the {range?.name}.</Nothing>}
      {any && (
        <div className="mt-3 grid gap-4 desk:grid-cols-2">
          <OverTime
            title="By rule"
            steps={byRule}
            zone={zone}
            chosen={rule}
            onChoose={(r) => put("rule", r)}
          />
          <OverTime
            title="By source"
            steps={bySource}
            zone={zone}
            chosen={source}
            onChoose={(s) => put("source", s)}
          />
        </div>
      )}
      <div className="mt-4 flex flex-wrap items-baseline gap-3">
        <h2 className="text-lg">
          Newest{rule && `, by ${rule}`}
          {source && `, of ${source}`}
          {all.length >= most && <span className="text-sm text-soft"> (the newest {count(most)} only)</span>}
        </h2>
        {(rule || source) && (
          <button
            type="button"
            className={button}
            disabled={replay.isPending}
            onClick={() => replay.mutate()}
          >
            Process again
          </button>
        )}
        {replay.data && (
          <p role="status">
            {replay.data.passed} of {replay.data.looked} count now.{" "}
            {replay.data.refused[0] && `Others still do not: ${replay.data.refused[0].reason}`}
          </p>
        )}
        <span className="ml-auto text-xs text-soft">{zoneText(zone, clock)}</span>
      </div>
      {rejects.data && all.length === 0 && <Nothing>No stored rejects match.</Nothing>}
      {all.length > 0 && (
        <Table head={columns}>
          {groups.map((g) => (
            <GroupRows key={g.key} group={g} zone={zone} onOpen={(id) => put("id", String(id))} />
          ))}
        </Table>
      )}
      {id && <OneReject id={id} zone={zone} onClose={() => put("id", "")} />}
    </>
  );
}

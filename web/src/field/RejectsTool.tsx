import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ask, send, type Reject, type RejectCounts, type ReplayOutcome } from "../api/client";
import { moment } from "../format";
import { button, entry, Field } from "../parts/Field";
import { preview } from "./preview";
import { Table } from "../parts/Table";

/** What was refused in the last day, by rule and source; and once a rule is mended, all of it
 *  sent its way once more. */
export function RejectsTool() {
  const [rule, setRule] = useState("");
  const client = useQueryClient();
  const counts = useQuery({
    queryKey: ["reject-counts"],
    queryFn: () => ask<RejectCounts>("rejects/counts"),
    refetchInterval: 10_000,
  });
  const rejects = useQuery({
    queryKey: ["rejects", rule],
    queryFn: () => ask<{ rejects: Reject[] }>("rejects", rule ? { rule, limit: "50" } : { limit: "50" }),
    refetchInterval: 10_000,
  });
  const replay = useMutation({
    mutationFn: () => send<ReplayOutcome>("rejects/replay", { rule }),
    onSuccess: () => client.invalidateQueries({ queryKey: ["rejects"] }),
  });
  const totals = new Map<string, number>();
  for (const c of counts.data?.counts ?? []) {
    const key = `${c.rule} at ${c.source}`;
    totals.set(key, (totals.get(key) ?? 0) + c.count);
  }
  const rules = [...new Set((counts.data?.counts ?? []).map((c) => c.rule))].sort();
  const failed = counts.error ?? rejects.error ?? replay.error;
  return (
    <>
      {failed && (
        <p role="alert" className="text-bad">
          {failed.message}
        </p>
      )}
      <p>
        {totals.size === 0
          ? "Nothing was refused in the last day."
          : `Refused in the last day: ${[...totals].map(([key, n]) => `${n.toLocaleString("en-GB")} by ${key}`).join("; ")}.`}
      </p>
      <div className="mt-3 flex flex-wrap items-end gap-3">
        <Field label="Rule">
          <select className={entry} value={rule} onChange={(e) => setRule(e.target.value)}>
            <option value="">all</option>
            {rules.map((r) => (
              <option key={r}>{r}</option>
            ))}
          </select>
        </Field>
        <button
          type="button"
          className={button}
          disabled={!rule || replay.isPending}
          onClick={() => replay.mutate()}
        >
          The rule is mended: send them once more
        </button>
        {replay.data && (
          <p role="status">
            {replay.data.passed} of {replay.data.looked} count now.{" "}
            {replay.data.refused[0] && `Others still do not: ${replay.data.refused[0].reason}`}
          </p>
        )}
      </div>
      <Table head={[">number", "when", "source and place", "rule", "why", "what arrived"]}>
        {(rejects.data?.rejects ?? []).map((r) => (
          <tr key={r.id} className="border-t border-rule align-top" data-reject={r.id}>
            <td className="px-3 py-1 text-right">{r.id}</td>
            <td className="px-3 py-1 whitespace-nowrap">{moment(r.time)}</td>
            <td className="px-3 py-1">
              {r.source}: {r.place}
            </td>
            <td className="px-3 py-1">{r.rule}</td>
            <td className="px-3 py-1">
              {r.replayed_at && (
                <span className="text-good">counts since {moment(r.replayed_at)}; it was: </span>
              )}
              {r.reason}
            </td>
            <td className="max-w-48 truncate px-3 py-1 text-soft" title={preview(r.raw)}>
              {preview(r.raw)}
            </td>
          </tr>
        ))}
      </Table>
      {rejects.data?.rejects.length === 0 && (
        <p className="px-3 py-2 text-soft">Nothing was refused by that.</p>
      )}
    </>
  );
}

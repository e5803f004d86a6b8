import { useMutation, useQuery } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { ask } from "../api/client";
import { moment } from "../format";
import { button, entry, Field } from "../parts/Field";
import { Mark } from "../parts/Mark";
import { Failed } from "../parts/Said";
import { cell, row, Table } from "../parts/Table";

const page = 50;

/** What was done and refused, the newest first. */
export function AuditTab() {
  const [who, setWho] = useState("");
  const [action, setAction] = useState("");
  const [outcome, setOutcome] = useState("");
  const [shown, setShown] = useState(page);
  const [open, setOpen] = useState(0);
  const narrowed = Object.fromEntries(Object.entries({ who, action, outcome }).filter(([, v]) => v));
  const query = { ...narrowed, limit: String(shown) };
  const found = useQuery({
    queryKey: ["audit", query],
    queryFn: () => ask("audit", query),
    refetchInterval: 10_000,
    placeholderData: (before) => before,
  });
  const verify = useMutation({ mutationFn: () => ask("audit/verify") });
  const entries = found.data?.entries ?? [];
  const asFile = new URLSearchParams({ ...narrowed, limit: "10000", format: "csv" }).toString();
  return (
    <>
      <div className="flex flex-wrap items-end gap-3">
        <Field label="Who">
          <input className={entry} name="who" value={who} onChange={(e) => setWho(e.target.value)} />
        </Field>
        <Field label="Action">
          <input
            className={entry}
            name="action"
            value={action}
            placeholder="accounts"
            onChange={(e) => setAction(e.target.value)}
          />
        </Field>
        <Field label="Outcome">
          <select
            className={entry}
            name="outcome"
            value={outcome}
            onChange={(e) => setOutcome(e.target.value)}
          >
            <option value="">any</option>
            <option>done</option>
            <option>refused</option>
            <option>failed</option>
          </select>
        </Field>
        <button type="button" className={button} onClick={() => verify.mutate()}>
          Verify
        </button>
        <a
          className={`${button} inline-flex items-center`}
          href={`/api/v1/audit?${asFile}`}
          download="audit.csv"
        >
          CSV
        </a>
      </div>
      {verify.data && (
        <p role="status" className={`mt-3 ${verify.data.problems.length > 0 ? "text-bad" : "text-good"}`}>
          {verify.data.problems.length > 0
            ? verify.data.problems.join("; ")
            : `${verify.data.entries} entries; every one is there and as it was written.`}
        </p>
      )}
      <Failed error={found.error ?? verify.error} />
      <Table head={["time", "who", "from", "action", "on", "outcome"]}>
        {entries.map((e) => (
          <Fragment key={e.id}>
            <tr
              className={`${row} hover:bg-paper`}
              data-audit={e.action}
              onClick={() => setOpen(open === e.id ? 0 : e.id)}
            >
              <td className={`${cell} whitespace-nowrap`}>
                <button type="button" aria-expanded={open === e.id}>
                  {moment(e.time)}
                </button>
              </td>
              <td className={cell}>{e.who}</td>
              <td className={cell}>{e.from}</td>
              <td className={cell}>{e.action}</td>
              <td className={`${cell} break-all`}>{e.target.split("\n")[0]}</td>
              <td className={cell}>
                <Mark look={e.outcome === "done" ? "good" : e.outcome === "refused" ? "stale" : "bad"}>
                  {e.times > 1 ? `${e.outcome} ${e.times} times` : e.outcome}
                </Mark>
              </td>
            </tr>
            {open === e.id && (
              <tr>
                <td colSpan={6} className="bg-paper px-3 py-2 text-sm">
                  {e.reason && <p>{e.reason}</p>}
                  {e.target.includes("\n") && <pre className="overflow-x-auto">{e.target}</pre>}
                  {e.before !== null && (
                    <pre className="overflow-x-auto">before {JSON.stringify(e.before)}</pre>
                  )}
                  {e.after !== null && <pre className="overflow-x-auto">after {JSON.stringify(e.after)}</pre>}
                  <p className="text-soft">
                    entry {e.id}, by {e.kind}, sum {e.sum}
                  </p>
                </td>
              </tr>
            )}
          </Fragment>
        ))}
      </Table>
      {entries.length === shown && (
        <button type="button" className={`${button} mt-3`} onClick={() => setShown(shown + 4 * page)}>
          Older entries
        </button>
      )}
    </>
  );
}

import type { components } from "../api/schema.gen";
import { useHealth, useUplinks } from "../api/hooks";
import { LinkSheet } from "../parts/LinkSheet";
import { useClock } from "../parts/useClock";
import { age, moment, words } from "../format";

const milliseconds = (seconds: number) =>
  `${(1000 * seconds).toLocaleString("en-GB", { maximumSignificantDigits: 3 })} ms`;

/** How a line is used that devices are asked on, and how well its schedules are kept. */
function lineFacts(line: components["schemas"]["Line"]): [string, string][] {
  const late = line.groups.map(
    (g) =>
      `${milliseconds(g.late)} of ${g.every ? age(1000 * g.every) : "demand"}${g.skipped ? `, ${g.skipped} skipped` : ""}`,
  );
  const refused = Object.entries(line.exceptions).map(([name, n]) => `${n} × ${name}`);
  return [
    ["line busy", `${(100 * line.busy).toFixed(0)} %`],
    ["99 of 100 answers in", milliseconds(line.answer_nearly)],
    ["late", late.join("; ") || "–"],
    ["timeouts", line.timeouts.toLocaleString("en-GB")],
    ["garbled answers", line.garbled.toLocaleString("en-GB")],
    ["exceptions", refused.join("; ") || "none"],
  ];
}

/** Every uplink: up or down, what waits, and what was last acknowledged; at a gateway its
 *  sources as well. */
export function LinksPage() {
  const uplinks = useUplinks();
  const health = useHealth();
  const clock = useClock();
  const sending = uplinks.data?.sending ?? [];
  const receiving = uplinks.data?.receiving ?? [];
  const ago = (text: string | null) => (text ? `${age(clock - Date.parse(text))} ago` : "never");
  return (
    <>
      <h1 className="text-2xl font-semibold">Links</h1>
      {uplinks.error && (
        <p role="alert" className="mt-4 text-bad">
          {uplinks.error.message}
        </p>
      )}
      {uplinks.data && sending.length + receiving.length === 0 && (
        <p className="mt-8">This service neither sends to a central nor receives from gateways.</p>
      )}
      {sending.map((u) => (
        <LinkSheet
          key={u.name}
          title={`to ${u.name}`}
          note={u.address}
          up={u.up}
          facts={[
            ["backlog", `${u.backlog_rows.toLocaleString("en-GB")} summaries`],
            ["waiting since", u.backlog_since ? moment(u.backlog_since) : "nothing waits"],
            ["last acknowledgement", ago(u.acked_at)],
            ["acknowledged", `${u.acked_rows.toLocaleString("en-GB")} summaries`],
            ["failed attempts", u.failures.toLocaleString("en-GB")],
            ["sent all again", `${u.refills} times`],
          ]}
          errors={[
            ...(u.up ? [] : [u.last_error]),
            ...(u.twin ? [u.twin] : []),
            ...u.refused.map((r) => `refused: ${r.path}, ${r.rows} summaries wait: ${r.reason}`),
            ...(u.given_up ? [`${u.given_up} summaries were given up before they could be sent`] : []),
          ]}
        />
      ))}
      {receiving.map((u) => (
        <LinkSheet
          key={u.gateway}
          title={`from ${u.gateway}`}
          note={`heard ${ago(u.heard_at)}`}
          up={u.up}
          facts={[
            [
              "backlog",
              u.up ? `${u.backlog_rows.toLocaleString("en-GB")} summaries` : "not known while it is down",
            ],
            ["last acknowledgement", ago(u.stored_at)],
            ["stored", `${u.stored_rows.toLocaleString("en-GB")} summaries`],
            ["readings there", `${u.accepted.toLocaleString("en-GB")} since its start`],
            ["rejects there", u.rejected.toLocaleString("en-GB")],
            ["batches", u.batches.toLocaleString()],
          ]}
          errors={[u.last_error, u.twin].filter(Boolean)}
        />
      ))}
      {health.data?.gateway?.sources.map((s) => (
        <LinkSheet
          key={s.name}
          title={`source ${s.name}`}
          note={`${words(s.form)} ${s.address}`}
          up={s.up}
          facts={[
            ["last message", ago(s.last_at)],
            ["messages", s.messages.toLocaleString("en-GB")],
            ["acknowledged", s.acked.toLocaleString("en-GB")],
            ["readings", s.readings.toLocaleString("en-GB")],
            ["could not be read", s.rejects.toLocaleString("en-GB")],
            ["errors", s.errors.toLocaleString("en-GB")],
            ...(s.line ? lineFacts(s.line) : []),
          ]}
          notes={s.line?.learned}
          errors={s.absent.concat(
            s.faults.map((f) => `${f.place}: ${f.message} (${f.count} times, last ${ago(f.last_at)})`),
          )}
        />
      ))}
    </>
  );
}

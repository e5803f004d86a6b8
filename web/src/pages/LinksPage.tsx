import type { components } from "../api/schema.gen";
import { useSearchParams } from "react-router";
import { useHealth, useLinkHistory, useUplinks } from "../api/hooks";
import { zoneOf } from "../board/useTime";
import { AskToCompare, Compare } from "../links/Compare";
import { Days } from "../links/Days";
import { Requests } from "../links/Requests";
import { Story } from "../links/Story";
import { Tree } from "../links/Tree";
import { useClock } from "../live/useClock";
import { LinkSheet } from "../parts/LinkSheet";
import { Failed } from "../parts/Said";
import { Nothing, PageWaiting } from "../parts/Waiting";
import { usePreferences } from "../preferences";
import { length } from "../time/duration";
import { longTime, shortTime } from "../time/format";
import { age, count, number, words } from "../format";

const milliseconds = (seconds: number) =>
  `${(1000 * seconds).toLocaleString(undefined, { maximumSignificantDigits: 3 })} ms`;

const bytes = (n: number) =>
  n < 1e6 ? `${number(n / 1e3, 3)} kB` : n < 1e9 ? `${number(n / 1e6, 3)} MB` : `${number(n / 1e9, 3)} GB`;

/** How a line is used that devices are asked on, and how well its schedules are kept. */
function lineFacts(
  line: components["schemas"]["Line"],
  ago: (text: string | null) => string,
): [string, string][] {
  const late = line.groups.map(
    (g) =>
      `${milliseconds(g.late)} of ${g.every ? age(1000 * g.every) : "demand"}${g.skipped ? `, ${g.skipped} skipped` : ""}`,
  );
  return [
    ["line busy", `${(100 * line.busy).toFixed(0)} %`],
    ["99 of 100 answers in", milliseconds(line.answer_nearly)],
    ["late", late.join("; ") || "–"],
    [
      "failed",
      line.failures.map((f) => `${count(f.count)} × ${f.what}, last ${ago(f.last_at)}`).join("; ") || "none",
    ],
  ];
}

/** Every uplink: up or down, what waits, and what was last acknowledged; at a gateway its
 *  sources as well. */
export function LinksPage() {
  const uplinks = useUplinks();
  const health = useHealth();
  const clock = useClock();
  const history = useLinkHistory({ last: "30d" });
  const [params, setParams] = useSearchParams();
  const zone = zoneOf(usePreferences().zone, health.data?.zone ?? "UTC");
  const moment = (text: string | null) => (text ? longTime(Date.parse(text), zone, true) : "never");
  const opened = history.data?.links
    .flatMap((l) => l.outages.map((o) => ({ ...o, link: l.link })))
    .find((o) => String(o.id) === params.get("outage"));
  const open = (id: number | null) => setParams(id === null ? {} : { outage: String(id) });
  const days = (link: string) => {
    const found = history.data?.links.find((l) => l.link === link);
    return history.data && found ? (
      <Days history={history.data} link={found} zone={zone} onOpen={(o) => open(o.id)} />
    ) : null;
  };
  const paces = (u: {
    rate: number;
    caught_up_at: string | null;
    arrived: number;
    backlog_rows: number;
    up: boolean;
  }): [string, string][] => [
    ["arrives", `${number(u.rate, 3)} summaries/s`],
    [
      "caught up",
      u.caught_up_at
        ? `in ${length(Date.parse(u.caught_up_at) - clock)}, at ${shortTime(Date.parse(u.caught_up_at), zone, { from: 0, to: 1 })}${u.arrived < 1 ? `; ${Math.floor(100 * u.arrived)} % of what waited has arrived` : ""}`
        : !u.up
          ? "not while it is down"
          : u.backlog_rows < 1000
            ? "yes"
            : "not known yet",
    ],
  ];
  const sending = uplinks.data?.sending ?? [];
  const receiving = uplinks.data?.receiving ?? [];
  const below = receiving.map((u) => ({ name: u.gateway, up: u.up, below: u.below }));
  const deep = sending.some((u) => u.above.length > 1) || below.some((b) => b.below.length > 0);
  const ago = (text: string | null) => (text ? `${age(clock - Date.parse(text))} ago` : "never");
  return (
    <>
      <h1 className="text-2xl font-semibold">Links</h1>
      <Failed error={uplinks.error ?? history.error} />
      {uplinks.isPending && <PageWaiting>Loading the links …</PageWaiting>}
      {uplinks.data && sending.length + receiving.length === 0 && (
        <Nothing>
          This service neither sends to a central nor receives from gateways; <code>uplinks:</code> of a
          gateway and <code>accept:</code> of a central say so in its configuration.
        </Nothing>
      )}
      {(deep || (sending.length > 0 && receiving.length > 0)) && (
        <section
          aria-label="Who sends to whom"
          className="mt-4 rounded-sheet border border-rule bg-sheet px-3 py-2"
        >
          <h2 className="mb-1 font-semibold">Who sends to whom</h2>
          {(sending.length > 0 ? sending.map((u) => u.above) : [[]]).map((above) => (
            <Tree key={above.join()} above={above.toReversed()} below={below} />
          ))}
        </section>
      )}
      {sending.map((u) => (
        <LinkSheet
          key={u.name}
          title={`to ${u.name}`}
          note={u.address}
          up={u.up}
          facts={[
            [
              "backlog",
              [
                `${count(u.backlog_rows)} summaries`,
                u.backlog_records ? `${count(u.backlog_records)} notes and gaps` : "",
                u.backlog_asked ? `${count(u.backlog_asked)} readings that were asked for` : "",
              ]
                .filter(Boolean)
                .join(", "),
            ],
            ["waiting since", u.backlog_since ? moment(u.backlog_since) : "nothing waits"],
            ["last acknowledgement", ago(u.acked_at)],
            ["acknowledged", `${count(u.acked_rows)} summaries`],
            ...paces(u),
            ["failed attempts", count(u.failures)],
            ["sent all again", `${u.refills} times`],
            [
              "today",
              `${bytes(u.bytes_today)}${u.bytes_left === null ? "" : `, ${bytes(u.bytes_left)} left`}`,
            ],
            ["this month", bytes(u.bytes_month)],
            ...(u.above.length > 1 ? [["goes on to", u.above.slice(1).join(", ")] as [string, string]] : []),
          ]}
          errors={[
            ...(u.up ? [] : [u.last_error]),
            ...(u.twin ? [u.twin] : []),
            ...u.refused.map((r) => `refused: ${r.path}, ${r.rows} summaries wait: ${r.reason}`),
            ...(u.given_up ? [`${u.given_up} summaries were given up before they could be sent`] : []),
          ]}
        >
          {days(`to ${u.name}`)}
          {u.address.startsWith("http") && <Compare uplink={u} ago={ago} />}
        </LinkSheet>
      ))}
      {receiving.map((u) => (
        <LinkSheet
          key={u.gateway}
          title={`from ${u.gateway}`}
          note={`heard ${ago(u.heard_at)}`}
          up={u.up}
          facts={[
            ["backlog", u.up ? `${count(u.backlog_rows)} summaries` : "not known while it is down"],
            ["last acknowledgement", ago(u.stored_at)],
            ["stored", `${count(u.stored_rows)} summaries`],
            ...(u.up ? paces(u) : []),
            ["readings there", `${count(u.accepted)} since its start`],
            ["rejects there", count(u.rejected)],
            ["batches", count(u.batches)],
          ]}
          errors={[u.last_error, u.twin].filter(Boolean)}
        >
          {days(`from ${u.gateway}`)}
          <AskToCompare site={u.gateway} />
        </LinkSheet>
      ))}
      {health.data?.gateway?.sources.map((s) => (
        <LinkSheet
          key={s.name}
          title={`source ${s.name}`}
          note={`${words(s.form)} ${s.address}`}
          up={s.up}
          facts={[
            ["last message", ago(s.last_at)],
            ["messages", count(s.messages)],
            ["acknowledged", count(s.acked)],
            ["readings", count(s.readings)],
            ["could not be read", count(s.rejects)],
            ...(s.ignored > 0 ? [["ignored", count(s.ignored)] as [string, string]] : []),
            ["errors", count(s.errors)],
            ...(s.line ? lineFacts(s.line, ago) : []),
          ]}
          notes={s.line?.learned}
          errors={[
            ...(s.up && s.silent_since
              ? [`Silent: messages came regularly, and the last came ${ago(s.silent_since)}`]
              : []),
            ...s.absent,
            ...s.faults.map((f) => `${f.place}: ${f.message} (${f.count} times, last ${ago(f.last_at)})`),
          ]}
        >
          {days(`source ${s.name}`)}
        </LinkSheet>
      ))}
      <Requests zone={zone} />
      {opened && (
        <Story outage={opened} link={opened.link} zone={zone} now={clock} onClose={() => open(null)} />
      )}
    </>
  );
}

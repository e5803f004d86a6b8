import type { Outage } from "../api/client";
import { count } from "../format";
import { linkWords } from "./words";
import { Link } from "../parts/Link";
import { Modal } from "../parts/Modal";
import { length } from "../time/duration";
import { longTime } from "../time/format";
import { zoneText } from "../time/zone";

interface Props {
  outage: Outage;
  link: string;
  zone: string;
  now: number;
  onClose: () => void;
}

/** An outage tells its story: since when, why, how much waited, when the last of it arrived, what was late. */
export function Story({ outage: o, link, zone, now, onClose }: Props) {
  const began = Date.parse(o.began);
  const ended = o.ended ? Date.parse(o.ended) : null;
  const at = (ms: number) => longTime(ms, zone, true);
  const source = link.startsWith("source ");
  const site = link.startsWith("from ") ? link.slice(5) : undefined;
  const steps: [time: number | "now" | "not yet", what: string][] = [
    [began, `${linkWords(link)} went down: ${o.reason || "no reason was told"}.`],
  ];
  if (o.oldest) steps.push([Date.parse(o.oldest), "The oldest summary that had to wait was made."]);
  if (ended === null) steps.push(["now", `It is still down, for ${length(now - began)}.`]);
  else steps.push([ended, `It was up again, after ${length(ended - began)}.`]);
  if (!source && o.waited > 0)
    steps.push(
      o.caught_up
        ? [
            Date.parse(o.caught_up),
            `The last of about ${count(o.waited)} summaries that had waited arrived; it had caught up${ended === null ? "" : ` in ${length(Date.parse(o.caught_up) - ended)}`}.`,
          ]
        : ["not yet", `About ${count(o.waited)} summaries wait; not all have arrived.`],
    );
  // A summary that was made just before may have had to wait too.
  const order = (time: number | string) => (typeof time === "number" ? time : Infinity);
  steps.sort(([a], [b]) => order(a) - order(b) || 0);
  const late =
    o.waited === 0
      ? source
        ? "What the source has to say of that time comes only if it keeps it itself; windows without readings show as gaps."
        : ended === null
          ? "Nothing is known to wait yet."
          : "Nothing had to wait, so nothing was late."
      : `Everything made from ${at(Date.parse(o.oldest ?? o.began))} to ${ended === null ? "now" : at(ended)} was late${o.longest_ms > 0 ? `, at most by ${length(o.longest_ms)}` : ""}. Nothing of it is lost: it is sent from the disk of the gateway.`;
  const from = new Date(began - 3_600_000).toISOString();
  const to = new Date((ended ?? now) + 3_600_000).toISOString();
  return (
    <Modal title={`Outage: ${linkWords(link)}`} onClose={onClose}>
      <div data-story>
        <ol className="flex flex-col gap-2 border-l-2 border-rule pl-4">
          {steps.map(([time, what]) => (
            <li key={what}>
              <p className="text-sm text-soft">{typeof time === "number" ? at(time) : time}</p>
              <p>{what}</p>
            </li>
          ))}
        </ol>
        <p className="mt-4">{late}</p>
        {site && (
          <p className="mt-3">
            <Link
              to={`/boards/place?${new URLSearchParams({ about: site, from, to })}`}
              className="underline"
            >
              {site} around that time
            </Link>
          </p>
        )}
        <p className="mt-3 text-xs text-soft">
          {zoneText(zone, began)}. What is down for less than 5 s is no outage.
        </p>
      </div>
    </Modal>
  );
}

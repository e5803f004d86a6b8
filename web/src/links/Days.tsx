import { useWidth } from "../parts/useWidth";
import type { LinkHistory, Outage } from "../api/client";
import { count } from "../format";
import { length } from "../time/duration";
import { longTime } from "../time/format";
import { ticks } from "../time/ticks";

interface Props {
  history: LinkHistory;
  link: LinkHistory["links"][number];
  zone: string;
  onOpen: (outage: Outage) => void;
}

const strip = 18;
const graph = 34;

/** Up and down of a link over the last days as a strip, and what waited below it. */
export function Days({ history, link, zone, onOpen }: Props) {
  const [box, wide] = useWidth();
  const [from, to] = [Date.parse(history.from), Date.parse(history.to)];
  const x = (text: string | number) => {
    const ms = typeof text === "number" ? text : Date.parse(text);
    return ((Math.min(to, Math.max(from, ms)) - from) / (to - from)) * wide;
  };
  const most = Math.max(0, ...link.waiting.map((w) => w.rows));
  const y = (rows: number) => strip + 4 + graph - (rows / (most || 1)) * (graph - 4);
  const high = strip + (most > 0 ? graph + 6 : 0) + 16;
  const steps = link.waiting.flatMap((w, i) => {
    const before = link.waiting[i - 1];
    return [
      ...(before ? [`${x(w.at).toFixed(1)} ${y(before.rows).toFixed(1)}`] : []),
      `${x(w.at).toFixed(1)} ${y(w.rows).toFixed(1)}`,
    ];
  });
  return (
    <div ref={box} className="relative mt-2" data-days={link.link}>
      <svg
        width={wide}
        height={high}
        role="img"
        aria-label={`${link.link}: ${link.outages.length} outages in ${length(to - from)}${most > 0 ? `, at most ${count(most)} summaries waited` : ""}`}
      >
        <rect x={0} width={wide} y={0} height={strip} fill="none" stroke="var(--rule)" />
        {history.ran.map((r) => (
          <rect
            key={r.from}
            x={x(r.from)}
            width={Math.max(1, x(r.to) - x(r.from))}
            y={1}
            height={strip - 2}
            fill="var(--water)"
            opacity="0.55"
          />
        ))}
        {link.outages.map((o) => (
          <rect
            key={o.id}
            x={x(o.began)}
            width={Math.max(2, x(o.ended ?? to) - x(o.began))}
            y={0}
            height={strip}
            fill="url(#hatch)"
            stroke="var(--stale)"
          />
        ))}
        {steps.length > 1 && (
          <path d={`M${steps.join("L")}`} fill="none" stroke="var(--ink)" strokeWidth="1.2" />
        )}
        {most > 0 && (
          <text x={2} y={strip + 14} fontSize="11" fill="var(--soft)">
            waiting, at most {count(most)}
          </text>
        )}
        {ticks(from, to, zone, Math.max(2, wide / 90)).map((t) => (
          <text key={t.at} x={x(t.at)} y={high - 3} fontSize="11" fill="var(--soft)">
            {t.text}
          </text>
        ))}
      </svg>
      {link.outages.map((o) => (
        <button
          key={o.id}
          type="button"
          onClick={() => onOpen(o)}
          aria-label={`Outage of ${link.link} from ${longTime(Date.parse(o.began), zone)}`}
          title={`${longTime(Date.parse(o.began), zone)}: ${o.reason}`}
          data-outage={o.id}
          className="absolute top-0 min-w-3"
          style={{
            left: Math.max(0, x(o.began) - 3),
            width: Math.max(12, x(o.ended ?? to) - x(o.began) + 6),
            height: strip,
          }}
        />
      ))}
    </div>
  );
}

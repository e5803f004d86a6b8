import { useWidth } from "../parts/useWidth";
import { count } from "../format";
import { hueOf } from "../lanes/colours";
import { marksOf } from "../parts/marks";
import { shortTime } from "../time/format";
import { ticks } from "../time/ticks";
import { namesOf, type Step } from "./hours";

interface Props {
  title: string;
  steps: Step[];
  zone: string;
  chosen: string;
  onChoose: (name: string) => void;
}

const high = 130;
const left = 48;

/** How many were refused over time, as bars of what refused them. */
export function OverTime({ title, steps, zone, chosen, onChoose }: Props) {
  const [box, wide] = useWidth();
  const names = namesOf(steps);
  const hue = new Map(names.map((n, i) => [n.name, i]));
  const most = Math.max(1, ...steps.map((s) => s.all));
  const [from, to] = [steps[0]?.from ?? 0, steps[steps.length - 1]?.to ?? 1];
  const x = (ms: number) => left + ((ms - from) / (to - from)) * (wide - left - 4);
  const y = (n: number) => high - 22 - (n / most) * (high - 32);
  return (
    <section aria-label={title} className="min-w-0">
      <h2 className="text-sm font-semibold">{title}</h2>
      <div ref={box}>
        <svg
          width={wide}
          height={high}
          role="img"
          aria-label={`${title}: ${names.map((n) => `${n.name} ${count(n.count)}`).join(", ") || "none"}`}
          data-over-time
        >
          {marksOf(0, most, 3).map((m) => (
            <g key={m}>
              <line x1={left} x2={wide} y1={y(m)} y2={y(m)} stroke="var(--rule)" />
              <text x={left - 4} y={y(m) + 4} fontSize="11" textAnchor="end" fill="var(--soft)">
                {count(m)}
              </text>
            </g>
          ))}
          {ticks(from, to, zone, Math.max(2, wide / 110)).map((t) => (
            <text key={t.at} x={x(t.at)} y={high - 6} fontSize="11" fill="var(--soft)">
              {t.text}
            </text>
          ))}
          {steps.map((s) => {
            let below = 0;
            return [...s.by].map(([name, n]) => {
              const top = y(below + n);
              const rect = (
                <rect
                  key={`${s.from} ${name}`}
                  x={x(s.from) + 0.5}
                  width={Math.max(1, x(s.to) - x(s.from) - 1)}
                  y={top}
                  height={Math.max(1, y(below) - top)}
                  fill={hueOf(hue.get(name) ?? 0)}
                  opacity={chosen && chosen !== name ? 0.25 : 1}
                >
                  <title>{`${shortTime(s.from, zone)}: ${count(n)} by ${name}`}</title>
                </rect>
              );
              below += n;
              return rect;
            });
          })}
        </svg>
      </div>
      <p className="flex flex-wrap gap-2 text-sm">
        {names.map((n, i) => (
          <button
            key={n.name}
            type="button"
            aria-pressed={chosen === n.name}
            onClick={() => onChoose(chosen === n.name ? "" : n.name)}
            className={`flex items-center gap-1 rounded-sheet px-1.5 hover:bg-sheet ${chosen === n.name ? "bg-sheet outline outline-ink" : ""}`}
          >
            <span aria-hidden className="size-2.5" style={{ background: hueOf(i) }} />
            {n.name} <span className="text-soft">{count(n.count)}</span>
          </button>
        ))}
      </p>
    </section>
  );
}

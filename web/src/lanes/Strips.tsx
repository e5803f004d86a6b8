import { count, percent } from "../format";
import { shortTime } from "../time/format";
import { hueOf } from "./colours";
import { causeInWords, labelsOf, type Row } from "./rows";
import { pieces, statesOf } from "./strips";
import { useView, xOf } from "./view";

interface Props {
  rows: Row[];
  height: number;
  single: string | null;
}

/** How a state is drawn: the lowest is light, the next like water, others have hues of their own. */
export function stateColour(index: number): string {
  if (index === 0) return "var(--state-rest)";
  if (index === 1) return "var(--water)";
  return hueOf(index);
}

/** A strip of named states for each row. */
export function Strips({ rows, height, single }: Props) {
  const view = useView();
  const states = statesOf(rows.map((r) => r.states));
  const values = states.map((s) => s.value);
  const index = new Map(values.map((v, i) => [v, i]));
  const nameOf = (v: number) => states.find((s) => s.value === v)?.name ?? String(v);
  const labels = labelsOf(rows.map((r) => r.name));
  const each = Math.max(10, (height - 8) / Math.max(1, rows.length));
  return (
    <svg width={view.px} height={height} className="absolute inset-0" aria-hidden data-picture>
      {rows.map((r, i) => {
        const top = 4 + i * each;
        const high = each - 5;
        return (
          <g key={r.key} opacity={single !== null && single !== r.name ? 0.35 : 1}>
            <text x={view.left - 6} y={top + high / 2 + 4} textAnchor="end" fontSize="12" fill="var(--soft)">
              {ending(labels[i] ?? r.name, view.left - 6)}
            </text>
            {pieces(r, values).map((p) => {
              const x = Math.max(view.left, xOf(view, p.from));
              const wide = Math.min(view.px - view.right, xOf(view, p.to)) - x;
              if (wide <= 0) return null;
              let below = top + high;
              return (
                <g key={p.from}>
                  {p.shares.map(([v, share]) => {
                    below -= share * high;
                    return (
                      <rect
                        key={v}
                        x={x}
                        y={below}
                        width={Math.max(0.5, wide)}
                        height={share * high}
                        fill={stateColour(index.get(v) ?? 0)}
                      />
                    );
                  })}
                  {p.shares.length === 1 && wide > 12 * 4 && high >= 14 && (
                    <text
                      x={x + 4}
                      y={top + high / 2 + 4}
                      fontSize="11"
                      fill={(index.get(p.shares[0]?.[0] ?? 0) ?? 0) === 0 ? "var(--ink)" : "var(--paper)"}
                    >
                      {shortened(nameOf(p.shares[0]?.[0] ?? 0), wide - 6)}
                    </text>
                  )}
                </g>
              );
            })}
          </g>
        );
      })}
    </svg>
  );
}

const wide = 7; // px of a character, about

/** A text that fits into so many px, about. */
function shortened(text: string, px: number): string {
  const most = Math.max(1, Math.floor(px / wide));
  return text.length <= most ? text : text.slice(0, Math.max(1, most - 1)) + "…";
}

/** The end of a name that fits into so many px, as names of a lane differ at their ends. */
function ending(name: string, px: number): string {
  const most = Math.max(1, Math.floor(px / wide));
  return name.length <= most ? name : "…" + name.slice(1 - most);
}

/** How much of each window good data speaks for, one row for each series. */
export function CoverageRows({ rows, height, single }: Props) {
  const view = useView();
  const labels = labelsOf(rows.map((r) => r.name));
  const each = Math.max(6, (height - 8) / Math.max(1, rows.length));
  return (
    <svg width={view.px} height={height} className="absolute inset-0" aria-hidden data-picture>
      {rows.map((r, i) => (
        <g key={r.key} opacity={single !== null && single !== r.name ? 0.35 : 1}>
          {each >= 11 && (
            <text
              x={view.left - 6}
              y={4 + i * each + each / 2 + 3}
              textAnchor="end"
              fontSize="11"
              fill="var(--soft)"
            >
              {ending(labels[i] ?? r.name, view.left - 6)}
            </text>
          )}
          {heat(r).map(([from, to, share]) => {
            const x = Math.max(view.left, xOf(view, from));
            const wide = Math.min(view.px - view.right, xOf(view, to)) - x;
            if (wide <= 0) return null;
            return (
              <rect
                key={from}
                x={x}
                y={4 + i * each}
                width={wide}
                height={Math.max(2, each - 2)}
                fill={share === 0 ? "url(#hatch)" : "var(--water)"}
                opacity={share === 0 ? 1 : 0.2 + 0.6 * share}
              >
                <title>
                  {[`${r.name}: ${percent(share, 0)}`, ...gapsOf(r, from, to, view.zone)].join("\n")}
                </title>
              </rect>
            );
          })}
        </g>
      ))}
    </svg>
  );
}

const mostTold = 5; // gaps of a span

/** The gaps within a span, a line each. */
function gapsOf(row: Row, from: number, to: number, zone: string): string[] {
  const all = row.missing.filter((g) => g.of === "" && g.from < to && g.to > from);
  const lines = all.slice(0, mostTold).map((g) => {
    const end = g.to === Infinity ? "" : ` to ${shortTime(g.to, zone)}`;
    const detail = g.detail ? ` (${g.detail})` : "";
    return `from ${shortTime(g.from, zone)}${end}: ${causeInWords(g.cause)}${detail}`;
  });
  return all.length > mostTold ? [...lines, `and ${count(all.length - mostTold)} more`] : lines;
}

/** Spans of about the same coverage, in tenths. */
function heat(row: Row): [from: number, to: number, share: number][] {
  const out: [number, number, number][] = [];
  for (const [i, from] of row.starts.entries()) {
    const to = row.ends[i] ?? from;
    const exact = row.values.coverage?.[i] ?? 0;
    const share = exact > 0 ? Math.max(0.1, Math.round(exact * 10) / 10) : 0;
    const before = out[out.length - 1];
    if (before && before[1] === from && before[2] === share) before[1] = to;
    else out.push([from, to, share]);
  }
  return out;
}

import { number } from "../format";
import { plotTop } from "./axes";
import { hueOf } from "./colours";
import type { Row } from "./rows";
import { UnitNames } from "./UnitNames";
import { useView, xOf } from "./view";

interface Props {
  rows: Row[];
  /** Of the axis; what has another is not drawn. */
  unit: string;
  height: number;
  single: string | null;
}

/** By how much counters grew in each window, as bars, side by side. */
export function Bars({ rows, unit, height, single }: Props) {
  const view = useView();
  const fits = (r: Row) => view.units(r.unit).written === unit;
  const hue = new Map(rows.filter((r) => !r.shift).map((r, i) => [r.key, i])); // as beside it
  const own = rows.filter((r) => !r.shift && fits(r));
  const ghosts = rows.filter((r) => r.shift && fits(r));
  const most =
    Math.max(0, ...[...own, ...ghosts].flatMap((r) => (r.values.increase ?? []).map((v) => v ?? 0))) || 1;
  const top = plotTop;
  const bottom = height - 6;
  const y = (v: number) => bottom - (Math.max(0, v) / most) * (bottom - top);
  return (
    <>
      <UnitNames axes={[unit]} />
      <svg width={view.px} height={height} className="absolute inset-0" aria-hidden data-picture>
        {[0, most / 2, most].map((v) => (
          <g key={v}>
            <line x1={view.left} x2={view.px - view.right} y1={y(v)} y2={y(v)} stroke="var(--rule)" />
            <text x={view.left - 4} y={y(v) + 4} textAnchor="end" fontSize="12" fill="var(--soft)">
              {number(v, 3)}
            </text>
          </g>
        ))}
        {ghosts.map((r) => (
          <polyline
            key={r.key}
            points={outline(r, view, y)}
            fill="none"
            stroke="var(--soft)"
            strokeDasharray="3 4"
          />
        ))}
        {own.map((r, k) => (
          <g
            key={r.key}
            fill={hueOf(hue.get(r.key) ?? 0)}
            opacity={single !== null && single !== r.name ? 0.3 : 1}
          >
            {r.starts.map((from, i) => {
              const v = r.values.increase?.[i];
              if (v === null || v === undefined || v <= 0) return null;
              const [a, b] = [
                Math.max(view.left, xOf(view, from)),
                Math.min(view.px - view.right, xOf(view, r.ends[i] ?? from)),
              ];
              const each = (b - a) / own.length;
              if (each <= 0) return null;
              return (
                <rect
                  key={from}
                  x={a + k * each}
                  y={y(v)}
                  width={Math.max(0.6, each * 0.9)}
                  height={bottom - y(v)}
                />
              );
            })}
          </g>
        ))}
      </svg>
    </>
  );
}

function outline(r: Row, view: Parameters<typeof xOf>[0], y: (v: number) => number): string {
  return r.starts
    .flatMap((from, i) => {
      const v = r.values.increase?.[i];
      const begins = Math.max(view.left, xOf(view, from));
      const ends = Math.min(view.px - view.right, xOf(view, r.ends[i] ?? from));
      if (v === null || v === undefined || ends <= begins) return [];
      return [begins, ends].map((x) => `${x.toFixed(1)},${y(v).toFixed(1)}`);
    })
    .join(" ");
}

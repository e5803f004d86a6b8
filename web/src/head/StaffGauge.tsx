import { number } from "../format";
import { rulerOf, standingOf, type Level } from "./gauge";
import { marksOf } from "../parts/marks";

interface Props {
  level: Level;
  label: string;
  unit: string;
  height?: number;
  stale?: boolean;
}

const looks = { normal: "var(--water)", unusual: "var(--stale)", critical: "var(--bad)" };

/** An upright ruler, like the one at a weir: the normal range, the band of the day, and how high
 *  it stands at present. */
export function StaffGauge({ level, label, unit, height = 132, stale = false }: Props) {
  const [low, high] = rulerOf(level);
  const y = (v: number) => 6 + ((high - v) / (high - low)) * (height - 12);
  const marks = marksOf(low, high, height / 15);
  const staff = 34; // where the ruler stands
  const look = looks[standingOf(level.present, level)];
  const between = (b: [number | null, number | null] | undefined, fill: string, x: number, wide: number) =>
    b && (
      <rect
        x={x}
        width={wide}
        y={y(b[1] ?? high)}
        height={Math.max(0, y(b[0] ?? low) - y(b[1] ?? high))}
        fill={fill}
      />
    );
  return (
    <svg
      width={84}
      height={height}
      role="img"
      aria-label={`Staff gauge of ${label}: ${number(level.present)} ${unit}, today from ${number(level.low)} to ${number(level.high)}`}
      data-gauge
    >
      <rect
        x={staff}
        width={16}
        y={6}
        height={height - 12}
        fill={level.outer ? "var(--bad-wash)" : "var(--paper)"}
      />
      {between(level.outer, level.inner ? "var(--stale-wash)" : "var(--paper)", staff, 16)}
      {between(level.inner, "var(--paper)", staff, 16)}
      {level.low !== null && level.high !== null && (
        <rect
          x={staff + 4}
          width={8}
          y={y(level.high)}
          height={Math.max(1.5, y(level.low) - y(level.high))}
          fill="var(--water)"
          opacity={stale ? 0.25 : 0.5}
        />
      )}
      <rect x={staff} width={16} y={6} height={height - 12} fill="none" stroke="var(--ink)" />
      {marks.map((m) => (
        <g key={m}>
          <line x1={staff} x2={staff + 5} y1={y(m)} y2={y(m)} stroke="var(--ink)" />
          <text x={staff - 4} y={y(m) + 4} textAnchor="end" fontSize="11" fill="var(--soft)">
            {number(m)}
          </text>
        </g>
      ))}
      {level.present !== null && (
        <path
          d={`M${staff + 17} ${y(level.present)}l9 -6v12z`}
          fill={stale ? "url(#hatch)" : look}
          stroke={stale ? "var(--soft)" : "none"}
        />
      )}
    </svg>
  );
}

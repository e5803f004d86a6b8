import { ticks } from "../time/ticks";
import { useView, xOf } from "./view";

/** The times along an axis, with what of the range is yet to come in grey. */
export function AxisMarks({ height }: { height: number }) {
  const view = useView();
  const { span, zone, px } = view;
  const marks = ticks(span.from, span.end, zone, Math.max(2, (px - view.left - view.right) / 84));
  return (
    <svg width={px} height={height} aria-hidden data-picture>
      {marks.map((m) => {
        const x = xOf(view, m.at);
        const fits = x + 4 + 8 * m.text.length <= px;
        return (
          <g key={m.at}>
            <line x1={x} x2={x} y1={m.day ? 0 : height - 8} y2={height} stroke="var(--soft)" />
            <text
              x={fits ? x + 4 : x - 4}
              y={height - 12}
              textAnchor={fits ? "start" : "end"}
              fontSize="12"
              fill={m.day ? "var(--ink)" : "var(--soft)"}
              fontWeight={m.day ? 600 : 400}
            >
              {(fits || m.day) && m.text}
            </text>
          </g>
        );
      })}
      {span.end > span.to && (
        <rect
          x={xOf(view, span.to)}
          width={Math.max(0, xOf(view, span.end) - xOf(view, span.to))}
          y={0}
          height={height}
          fill="var(--rule)"
          opacity="0.35"
        />
      )}
    </svg>
  );
}

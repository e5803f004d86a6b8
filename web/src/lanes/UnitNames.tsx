import { axisWidth } from "./axes";
import { useView } from "./view";

/** The units of a lane's axes, each above its own. */
export function UnitNames({ axes }: { axes: string[] }) {
  const view = useView();
  const each = axisWidth(view.px);
  const onTheLeft = Math.ceil(axes.length / 2);
  return (
    <svg
      width={view.px}
      height={14}
      className="pointer-events-none absolute top-0 left-0"
      aria-hidden
      data-picture
      data-units
    >
      {axes.map((unit, i) => {
        const k = Math.floor(i / 2);
        const left = i % 2 === 0;
        const x = left
          ? (k === 0 ? view.left : (onTheLeft - k) * each) - 4
          : view.px - view.right + k * each + 4;
        return (
          <text key={i} x={x} y={11} textAnchor={left ? "end" : "start"} fontSize="11" fill="var(--soft)">
            {unit}
          </text>
        );
      })}
    </svg>
  );
}

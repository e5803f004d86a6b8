import { useLayoutEffect, useRef, useState } from "react";
import uPlot from "uplot";
import type { BoardLane } from "../api/client";
import { asVector } from "../picture/picture";
import { vectorOf } from "../picture/vector";
import { plotTop, scaleName } from "./axes";
import { chartOptions, type Normal } from "./chartOptions";
import { useTheme } from "./colours";
import { kindOf } from "./kinds";
import type { Line } from "./lines";
import { UnitNames } from "./UnitNames";
import { useView } from "./view";

interface Props {
  lane: BoardLane;
  lines: Line[];
  axes: string[];
  height: number;
  /** Of the first axis, where all its series have the same. */
  normal?: Normal;
  /** The line that is singled out. */
  single: string | null;
}

interface Label {
  key: string;
  text: string;
  top: number;
  hue: number;
  dim: boolean;
}

/** Lines with their bands, on up to four axes. */
export function Chart({ lane, lines, axes, height, normal, single }: Props) {
  const view = useView();
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot | null>(null);
  const theme = useTheme();
  const [labels, setLabels] = useState<Label[]>([]);
  const shape = JSON.stringify([
    lines.map((l) => [l.key, l.hue, l.axis, l.band, l.ghost]),
    axes,
    lane.draw,
    lane.join,
    lane.kind,
    normal,
    single,
    height,
    view.left,
    view.right,
    view.scale,
  ]);

  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const chart = new uPlot(
      chartOptions({ lane, lines, axes, height, normal, single, view }),
      uPlot.join([[[]], ...lines.map((): uPlot.AlignedData => [[], [], [], []])]),
      element,
    );
    plot.current = chart;
    return () => {
      chart.destroy();
      plot.current = null;
    };
    // eslint-disable-next-line react-hooks/exhaustive-deps -- shape says all that matters
  }, [shape, theme]);

  const { from, end } = view.span;
  useLayoutEffect(() => {
    const chart = plot.current;
    if (!chart) return;
    const wide = view.px * view.scale;
    if (chart.width !== wide) chart.setSize({ width: wide, height: height * view.scale });
    chart.batch(() => {
      chart.setData(dataOf(lines), false);
      chart.setScale("x", { min: from / 1000, max: end / 1000 });
    });
    setLabels(endLabels(chart, lines, height, single, view.scale));
    if (box.current) asVector.set(box.current, () => vectorOf(chart, lines, lane.join === true, normal));
  }, [lines, from, end, view.px, view.scale, height, single, shape, theme, lane.join, normal]);

  return (
    <>
      <div
        ref={box}
        aria-hidden
        data-chart
        className="pointer-events-none absolute inset-0"
        style={{ zoom: 1 / view.scale }}
      />
      {!kindOf(lane).circular && <UnitNames axes={axes} />}
      {labels.map((l) => (
        <span
          key={l.key}
          data-label
          dir="rtl" // what is cut off is the beginning, as names differ at their ends
          className={`pointer-events-none absolute truncate text-left text-xs ${l.dim ? "opacity-40" : ""}`}
          style={{
            top: l.top - 8,
            left: view.px - Math.min(view.right, 92) + 4,
            maxWidth: Math.min(view.right, 92) - 4,
            color: `var(--hue-${(l.hue % 8) + 1})`,
          }}
        >
          <bdi>{view.px < 600 ? l.hue + 1 : l.text}</bdi>
        </span>
      ))}
    </>
  );
}

function dataOf(lines: Line[]): uPlot.AlignedData {
  if (lines.length === 0) return [[]];
  return uPlot.join(
    lines.map((l): uPlot.AlignedData => [l.x, padded(l.low, l), padded(l.high, l), padded(l.mid, l)]),
  );
}

/** A column as long as the line's times, as a stat may be missing. */
const padded = (column: (number | null)[], line: Line) =>
  column.length === line.x.length ? column : line.x.map(() => null);

/** The names at the ends of the lines, none over another. */
function endLabels(
  chart: uPlot,
  lines: Line[],
  height: number,
  single: string | null,
  scale: number,
): Label[] {
  const out: Label[] = [];
  for (const l of lines) {
    if (l.ghost || lines.length < 2) continue;
    for (let i = l.mid.length - 1; i >= 0; i--) {
      const v = l.mid[i];
      if (v === null || v === undefined) continue;
      const top = chart.valToPos(v, scaleName(l.axis)) / scale;
      if (Number.isFinite(top))
        out.push({
          key: l.key,
          text: l.label,
          top: top + plotTop,
          hue: l.hue,
          dim: single !== null && single !== l.name,
        });
      break;
    }
  }
  out.sort((a, b) => a.top - b.top);
  const step = 13;
  for (let i = 1; i < out.length; i++) {
    const [before, here] = [out[i - 1], out[i]];
    if (before && here && here.top < before.top + step) here.top = before.top + step;
  }
  const over = (out[out.length - 1]?.top ?? 0) - (height - 8);
  if (over > 0) for (const l of out) l.top -= over;
  return out.filter((l) => l.top > 4);
}

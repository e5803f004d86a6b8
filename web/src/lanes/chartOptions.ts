import uPlot from "uplot";
import type { BoardLane } from "../api/client";
import { number } from "../format";
import { axisWidth, plotTop, scaleName } from "./axes";
import { compass, quarters } from "./bearing";
import { dashOf, hues, token } from "./colours";
import { kindOf } from "./kinds";
import type { Line } from "./lines";
import type { View } from "./view";

/** The normal range of a series, in the unit that is shown. */
export interface Normal {
  inner?: [number | null, number | null];
  outer?: [number | null, number | null];
}

interface Input {
  lane: BoardLane;
  lines: Line[];
  axes: string[];
  height: number;
  normal?: Normal;
  single: string | null;
  view: View;
}

/** The options of a chart. Colours are design tokens. Sizes are in px of the screen, so that lines stay sharp. */
export function chartOptions({ lane, lines, axes, height, normal, single, view }: Input): uPlot.Options {
  const s = view.scale;
  const font = `${12 * s}px system-ui, sans-serif`;
  const each = axisWidth(view.px) * s;
  const left = Math.ceil(axes.length / 2);
  const axis = (i: number): uPlot.Axis => ({
    scale: scaleName(i),
    side: i % 2 === 0 ? 3 : 1,
    stroke: token("--soft"),
    font,
    gap: 4 * s,
    // The first axis takes what the page's margin has, so that all plots begin at one line.
    size: i === 0 ? view.left * s - (left - 1) * each : each,
    grid: { show: i === 0, stroke: token("--rule"), width: s },
    ticks: { show: false },
    splits: kindOf(lane).circular ? (_, __, low, high) => quarters(low, high) : undefined,
    values: (_, splits) =>
      splits.map((v) => (v === null ? "" : kindOf(lane).circular ? compass(v) : number(v, 5))),
    space: 28 * s,
  });
  const rightAxes = Math.floor(axes.length / 2) * each;
  return {
    width: view.px * s,
    height: height * s,
    padding: [plotTop * s, view.right * s - rightAxes, 8 * s, 0],
    legend: { show: false },
    cursor: { show: false },
    select: { show: false, left: 0, top: 0, width: 0, height: 0 },
    scales: Object.fromEntries([
      ["x", { time: false, auto: false }],
      ...axes.map((_, i): [string, uPlot.Scale] => [
        scaleName(i),
        { auto: true, range: (_, low, high) => withAir(low, high, lane) },
      ]),
    ]) as uPlot.Scales,
    axes: [{ show: false }, ...axes.map((_, i) => axis(i))],
    series: [{}, ...lines.flatMap((l) => threeOf(l, lane, single, s))],
    bands: lines.flatMap((l, i) =>
      l.band
        ? [
            {
              series: [3 * i + 2, 3 * i + 1] as [number, number],
              fill: faded(l, single === null || single === l.name ? 0.16 : 0.04),
            },
          ]
        : [],
    ),
    hooks: { drawClear: [(u) => shade(u, normal)] },
  };
}

const hue = (l: Line) => token(`--hue-${(l.hue % hues) + 1}`);

/** A hue with an opacity, as eight hexadecimal digits. */
function faded(l: Line, opacity: number): string {
  return (
    hue(l) +
    Math.round(opacity * 255)
      .toString(16)
      .padStart(2, "0")
  );
}

/** The lowest, the highest and the middle of a line. */
function threeOf(l: Line, lane: BoardLane, single: string | null, s: number): uPlot.Series[] {
  const scale = scaleName(l.axis);
  const edge: uPlot.Series = {
    scale,
    show: l.band,
    stroke: "transparent",
    points: { show: false },
    spanGaps: lane.join,
  };
  const dim = single !== null && single !== l.name;
  const stroke = faded(l, dim ? 0.25 : l.ghost ? 0.65 : 1);
  const middle: uPlot.Series = {
    scale,
    stroke,
    width: s * (single === l.name && !l.ghost ? 2.4 : l.ghost ? 1.2 : 1.6),
    dash: (l.ghost ? [3, 4] : dashOf(l.hue))?.map((d) => d * s),
    spanGaps: lane.join,
    points: { size: 4 * s, width: s, stroke, fill: stroke },
  };
  if (lane.draw === "steps") middle.paths = uPlot.paths.stepped?.({ align: 1 });
  if (lane.draw === "points") {
    middle.paths = () => null;
    middle.points = { ...middle.points, show: true };
  }
  return [edge, edge, middle];
}

/** Some air above and below, also around a value that never changes. */
function withAir(low: number | null, high: number | null, lane: BoardLane): [number, number] {
  if (low === null || high === null) return [0, 1];
  const { range } = kindOf(lane);
  if (range) return range(low, high);
  const air = (high - low) * 0.08 || Math.abs(high) * 0.02 || 1;
  return [low - air, high + air];
}

/** The bands outside of a normal range, from top to bottom of a plot: amber outside of the inner one, red outside of
 *  the outer. y says where a value is. */
export function outside(normal: Normal, y: (value: number) => number, top: number, bottom: number) {
  const out: { y: number; height: number; colour: string }[] = [];
  const within = (v: number) => Math.min(bottom, Math.max(top, y(v)));
  const add = (bounds: [number | null, number | null] | undefined, colour: string) => {
    const [low, high] = bounds ?? [null, null];
    if (high !== null) out.push({ y: top, height: within(high) - top, colour });
    if (low !== null) out.push({ y: within(low), height: bottom - within(low), colour });
  };
  add(normal.inner, "--stale-wash");
  add(normal.outer, "--bad-wash");
  return out.filter((b) => b.height > 0);
}

function shade(u: uPlot, normal?: Normal) {
  if (!normal) return;
  const { left, top, width, height } = u.bbox;
  u.ctx.save();
  for (const band of outside(normal, (v) => u.valToPos(v, "y0", true), top, top + height)) {
    u.ctx.fillStyle = token(band.colour);
    u.ctx.fillRect(left, band.y, width, band.height);
  }
  u.ctx.restore();
}

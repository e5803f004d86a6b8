import uPlot from "uplot";
import { scaleName } from "../lanes/axes";
import { outside, type Normal } from "../lanes/chartOptions";
import { hueOf } from "../lanes/colours";
import type { Line } from "../lanes/lines";
import { number } from "../format";
import { marksOf } from "../parts/marks";

const space = "http://www.w3.org/2000/svg";

function made(name: string, attributes: Record<string, string | number>): SVGElement {
  const out = document.createElementNS(space, name);
  for (const [k, v] of Object.entries(attributes)) out.setAttribute(k, String(v));
  return out;
}

/** A chart as paths, as it stands on the screen. */
export function vectorOf(chart: uPlot, lines: Line[], join: boolean, normal?: Normal): SVGElement {
  const out = made("g", {});
  const left = chart.bbox.left / devicePixelRatio;
  const top = chart.bbox.top / devicePixelRatio;
  const wide = chart.bbox.width / devicePixelRatio;
  const bottom = top + chart.bbox.height / devicePixelRatio;
  if (normal)
    for (const band of outside(normal, (v) => top + chart.valToPos(v, scaleName(0)), top, bottom))
      out.append(
        made("rect", {
          x: left,
          width: wide,
          y: band.y,
          height: band.height,
          fill: `var(${band.colour})`,
        }),
      );
  for (const axis of chart.axes.slice(1)) {
    const name = axis.scale ?? "";
    const { min, max } = chart.scales[name] ?? {};
    if (min === undefined || max === undefined) continue;
    const right = axis.side === 1;
    for (const v of marksOf(min, max, chart.bbox.height / devicePixelRatio / 28)) {
      const y = top + chart.valToPos(v, name);
      if (!right)
        out.append(made("line", { x1: left, x2: left + wide, y1: y, y2: y, stroke: "var(--rule)" }));
      const t = made("text", {
        x: right ? left + wide + 4 : left - 4,
        y: y + 4,
        "text-anchor": right ? "start" : "end",
        "font-size": 11,
        fill: "var(--soft)",
      });
      t.textContent = number(v, 5);
      out.append(t);
    }
  }
  for (const l of lines) {
    const point = (i: number, v: number | null | undefined) =>
      v === null || v === undefined
        ? null
        : `${(left + chart.valToPos(l.x[i] ?? 0, "x")).toFixed(1)} ${(top + chart.valToPos(v, scaleName(l.axis))).toFixed(1)}`;
    if (l.band)
      for (const run of runs(l.low.map((v, i) => point(i, v)))) {
        const upper = run.map((i) => point(i, l.high[i])).filter((p) => p !== null);
        const lower = run
          .map((i) => point(i, l.low[i]))
          .filter((p) => p !== null)
          .reverse();
        out.append(
          made("path", { d: `M${[...upper, ...lower].join("L")}Z`, fill: hueOf(l.hue), opacity: 0.16 }),
        );
      }
    const points = l.mid.map((v, i) => point(i, v));
    for (const run of join ? [points.flatMap((p, i) => (p ? [i] : []))] : runs(points))
      out.append(
        made("path", {
          d: `M${run.map((i) => points[i]).join("L")}`,
          fill: "none",
          stroke: hueOf(l.hue),
          "stroke-width": l.ghost ? 1.2 : 1.6,
          ...(l.ghost ? { "stroke-dasharray": "3 4", opacity: 0.65 } : {}),
        }),
      );
  }
  return out;
}

/** The indices of what is known, broken where it is not. */
function runs(points: (string | null)[]): number[][] {
  const out: number[][] = [];
  for (const [i, p] of points.entries()) {
    if (p === null) continue;
    const before = out[out.length - 1];
    if (before && before[before.length - 1] === i - 1) before.push(i);
    else out.push([i]);
  }
  return out;
}

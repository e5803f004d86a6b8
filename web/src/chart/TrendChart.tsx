import { useEffect, useRef, useState } from "react";
import uPlot from "uplot";
import type { SeriesWindows, Windows } from "../api/client";
import { number } from "../format";
import { viewOf } from "../kinds";
import { align } from "./align";
import { options } from "./options";

interface Props {
  windows: Windows;
  series: SeriesWindows;
  onZoom: (from: number, to: number) => void;
}

/** Means as a line in the band from lowest to highest, or what else its kind calls for. Hover, or use the arrow keys, to
 *  read a window; drag to zoom. */
export function TrendChart({ windows, series, onZoom }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot | null>(null);
  const zoom = useRef(onZoom);
  const [at, setAt] = useState<number | null>(null);
  const [theme, setTheme] = useState(0);
  const data = align(windows, series);

  useEffect(() => {
    zoom.current = onZoom;
  }, [onZoom]);

  useEffect(() => {
    const changed = () => setTheme((n) => n + 1);
    addEventListener("themechange", changed);
    return () => removeEventListener("themechange", changed);
  }, []);

  const band = viewOf(series.kind).band;
  const states = JSON.stringify(series.states ?? null);
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const chart = new uPlot(
      options(
        element,
        band,
        setAt,
        (from, to) => zoom.current(from * 1000, to * 1000),
        (JSON.parse(states) as Record<string, number> | null) ?? undefined,
      ),
      [[], [], [], []],
      element,
    );
    plot.current = chart;
    const resize = new ResizeObserver(() =>
      chart.setSize({ width: element.clientWidth, height: chart.height }),
    );
    resize.observe(element);
    return () => {
      resize.disconnect();
      chart.destroy();
      plot.current = null;
    };
  }, [band, theme, states]);

  useEffect(() => {
    const chart = plot.current;
    if (!chart) return;
    chart.setData(data as uPlot.AlignedData, false);
    chart.setScale("x", { min: Date.parse(windows.from) / 1000, max: Date.parse(windows.to) / 1000 });
  });

  const step = (by: number) => {
    const chart = plot.current;
    if (!chart) return;
    const next = Math.max(0, Math.min(data[0].length - 1, (chart.cursor.idx ?? data[0].length) + by));
    const x = data[0][next];
    const y = data[3][next];
    if (x === undefined) return;
    chart.setCursor({ left: chart.valToPos(x, "x"), top: y == null ? 0 : chart.valToPos(y, "y") });
  };

  return (
    <div
      role="img"
      aria-label={`Chart of ${series.name}. Left and right read window by window.`}
      tabIndex={0}
      onKeyDown={(e) => {
        if (e.key === "ArrowLeft") step(-1);
        if (e.key === "ArrowRight") step(1);
      }}
    >
      <p className="h-6 text-sm" aria-live="polite" data-readout>
        {readout(data, at, series)}
      </p>
      <div ref={box} />
    </div>
  );
}

function readout(data: ReturnType<typeof align>, at: number | null, series: SeriesWindows): string {
  const [x, low, high, mean] = data;
  const start = at === null ? undefined : x[at];
  if (at === null || start === undefined) return "";
  const time = new Date(start * 1000).toISOString().slice(0, 19).replace("T", " ");
  if (mean[at] == null) return `${time} UTC: no data`;
  const view = viewOf(series.kind);
  const spread = view.band ? `, from ${number(low[at])} to ${number(high[at])}` : "";
  return `${time} UTC: ${view.called} ${number(mean[at])} ${series.unit}${spread}`;
}

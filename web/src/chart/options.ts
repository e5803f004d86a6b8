import uPlot from "uplot";

/** How a chart looks and what it tells; colours are the design tokens'. */
export function options(
  element: HTMLElement,
  band: boolean,
  onHover: (index: number | null) => void,
  onZoom: (from: number, to: number) => void,
  states?: Record<string, number>,
): uPlot.Options {
  const style = getComputedStyle(document.documentElement);
  const token = (name: string) => style.getPropertyValue(name).trim();
  const axis: uPlot.Axis = {
    stroke: token("--soft"),
    grid: { stroke: token("--rule"), width: 1 },
    ticks: { stroke: token("--rule"), width: 1 },
    font: "12px system-ui, sans-serif",
  };
  const edge: uPlot.Series = { stroke: "transparent", points: { show: false } };
  return {
    width: element.clientWidth,
    height: 240,
    tzDate: (ts) => uPlot.tzDate(new Date(ts * 1000), "Etc/UTC"),
    legend: { show: false },
    cursor: { drag: { x: true, y: false, setScale: false }, sync: { key: "trends" }, y: false },
    scales: { x: { time: true, auto: false }, y: { range: (_, low, high) => padded(low, high) } },
    axes: [
      { ...axis, values: times },
      states ? { ...axis, size: 80, ...named(states) } : { ...axis, size: 60 },
    ],
    series: [
      {},
      { ...edge, show: band },
      { ...edge, show: band },
      { stroke: token("--water"), width: 1.6, points: { show: undefined, size: 4 } },
    ],
    bands: band ? [{ series: [2, 1], fill: token("--water-wash") }] : [],
    hooks: {
      setCursor: [(u) => onHover(u.cursor.idx ?? null)],
      setSelect: [
        (u) => {
          if (u.select.width > 4) {
            onZoom(u.posToVal(u.select.left, "x"), u.posToVal(u.select.left + u.select.width, "x"));
            u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
          }
        },
      ],
    },
  };
}

/** An axis that has the names of states where their values are, and nothing between. */
function named(states: Record<string, number>): Partial<uPlot.Axis> {
  const names = new Map(Object.entries(states).map(([name, value]) => [value, name]));
  return {
    splits: () => [...names.keys()].sort((a, b) => a - b),
    values: (_, splits) => splits.map((s) => names.get(s) ?? ""),
  };
}

/** Some air above and below, also around a value that never changes. */
function padded(low: number | null, high: number | null): [number, number] {
  if (low === null || high === null) return [0, 1];
  const air = (high - low) * 0.08 || Math.abs(high) * 0.1 || 1;
  return [low - air, high + air];
}

/** Times of day, with the date where it changes; UTC, ISO 8601's order. */
function times(_: uPlot, splits: number[], __: number, ___: number, step: number): string[] {
  let day = "";
  return splits.map((s) => {
    const text = new Date(s * 1000).toISOString();
    const date = text.slice(5, 10);
    const clock = step < 60 ? text.slice(11, 19) : text.slice(11, 16);
    if (date === day) return clock;
    day = date;
    return step >= 86_400 ? date : `${clock}\n${date}`;
  });
}

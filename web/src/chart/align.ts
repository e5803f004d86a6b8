import type { SeriesWindows, Windows } from "../api/client";
import { seconds } from "../duration";

type Column = (number | null)[];

/** The rows as columns for drawing: starts in seconds since 1970, min, max, mean. Where
 *  windows without data were left out, one empty row keeps the line from being drawn
 *  across. */
export function align(windows: Windows, series: SeriesWindows): [number[], Column, Column, Column] {
  const width = seconds(windows.width);
  const x: number[] = [];
  const columns: [Column, Column, Column] = [[], [], []];
  const from = [series.values.min, series.values.max, series.values.mean];
  series.starts.forEach((text, i) => {
    const start = Date.parse(text) / 1000;
    const before = x.at(-1);
    if (before !== undefined && start - before > 1.5 * width) {
      x.push(before + width);
      columns.forEach((c) => c.push(null));
    }
    x.push(start);
    columns.forEach((c, k) => c.push(from[k]?.[i] ?? null));
  });
  return [x, ...columns];
}

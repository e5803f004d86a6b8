import type { SeriesWindows, Windows } from "../api/client";
import { viewOf } from "../kinds";

type Column = (number | null)[];

/** The rows as columns for drawing: starts in seconds since 1970, min, max, and what is
 *  the line of the kind. A window without data is a hole in the line. */
export function align(windows: Windows, series: SeriesWindows): [number[], Column, Column, Column] {
  const x = windows.starts.map((text) => Date.parse(text) / 1000);
  const column = (stat: string): Column => series.values[stat] ?? x.map(() => null);
  return [x, column("min"), column("max"), column(viewOf(series.kind).line)];
}

import { lowest } from "./kind";

/** The heights of strips on a wall, in px. */
export const aStrip = { least: 15, most: 44 };

/** What kinds of lanes have in common that show a strip for each series. */
export const strips = {
  strips: true as const,
  height: (rows: number) => 12 + 24 * Math.max(1, Math.min(rows, 20)),
  onWall: (rows: number) => ({
    least: Math.max(lowest, 8 + aStrip.least * rows),
    most: 8 + aStrip.most * Math.max(1, rows), // > lowest
  }),
};

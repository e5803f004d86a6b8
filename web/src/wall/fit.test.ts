import { describe, expect, it } from "vitest";
import type { BoardLane } from "../board/board";
import { fit, headWide, high, leastOf, type Wanted, type WallPage } from "./fit";

const wanted = (kind: BoardLane["kind"], rows = 1, more: Partial<BoardLane> = {}): Wanted => {
  const paths = Array.from({ length: rows }, (_, i) => `farm/pond/${kind}-${i}`);
  return { lane: { kind, series: paths, ...more }, paths };
};
const six = [
  wanted("chart", 6),
  wanted("states", 3),
  wanted("growth", 2),
  wanted("chart", 2),
  wanted("coverage", 3),
  wanted("notes"),
];
const small = { width: 1280, height: 800 };
const screens = [
  small,
  { width: 1920, height: 1080 },
  { width: 1080, height: 1920 },
  { width: 3840, height: 2160 },
];

const filled = (page?: WallPage) => page?.lanes.reduce((n, l) => n + (l.height ?? 0) + high.title, 0) ?? 0;

describe("a board on a wall", () => {
  it.each(screens)("has six lanes on one page of $width × $height", (screen) => {
    const { pages, width, height } = fit(screen, 4, six);
    expect(pages).toHaveLength(1);
    expect(pages[0]?.lanes.map((l) => l.kind)).toEqual(six.map((w) => w.lane.kind));
    const used = filled(pages[0]);
    const room =
      height - high.bar - high.axis - high.foot - high.head * Math.ceil(4 / Math.floor(width / headWide));
    expect(used).toBeLessThanOrEqual(room);
    expect(used).toBeGreaterThan(room - 10);
    for (const [i, w] of six.entries()) expect(pages[0]?.lanes[i]?.height).toBeGreaterThanOrEqual(leastOf(w));
  });

  it.each(screens)("takes as many pages of $width × $height as it needs, none too full", (screen) => {
    const many = Array.from({ length: 20 }, (_, i) => wanted("chart", 1, { title: String(i) }));
    const { pages, height } = fit(screen, 0, many);
    expect(pages.length).toBeGreaterThan(1);
    expect(pages.flatMap((p) => p.lanes.map((l) => l.title))).toEqual(many.map((_, i) => String(i)));
    const room = height - high.bar - high.axis - high.foot;
    for (const p of pages) {
      expect(filled(p)).toBeLessThanOrEqual(room);
      expect(Math.min(...p.lanes.map((l) => l.height ?? 0))).toBeGreaterThanOrEqual(92);
    }
    const counts = pages.map((p) => p.lanes.length);
    expect(Math.max(...counts) - Math.min(...counts)).toBeLessThanOrEqual(2);
  });

  it("gives a single strip the height that a lane has at least", () => {
    const strips = Array.from({ length: 7 }, () => wanted("states"));
    for (const l of fit(small, 4, strips).pages[0]?.lanes ?? []) expect(l.height).toBeGreaterThanOrEqual(40);
  });

  it("grows with the screen", () => {
    const large = fit({ width: 3840, height: 2160 }, 0, six).scale;
    expect(large / fit(small, 0, six).scale).toBeCloseTo(2160 / 800, 0);
  });

  it("parts a lane with more rows than a page holds", () => {
    const { pages } = fit(small, 0, [wanted("states", 100)]);
    const series = pages.flatMap((p) => p.lanes.flatMap((l) => l.series));
    expect(series).toHaveLength(100);
    expect(new Set(series).size).toBe(100);
    for (const p of pages)
      for (const l of p.lanes) expect(l.height).toBeGreaterThanOrEqual(15 * (l.series?.length ?? Infinity));
  });

  it("gives many present values pages of their own", () => {
    const { pages } = fit(small, 24, [wanted("chart")]);
    expect(pages[pages.length - 1]?.lanes).toHaveLength(1);
    expect(pages[pages.length - 1]?.heads).toEqual([0, 0]);
    expect(pages[0]?.heads[0]).toBe(0);
    expect(Math.max(...pages.map((p) => p.heads[1]))).toBe(24);
  });

  it("has a page for present values alone, and none for an empty board", () => {
    expect(fit(small, 2, []).pages).toEqual([{ heads: [0, 2], lanes: [] }]);
    expect(fit(small, 0, []).pages).toEqual([]);
  });
});

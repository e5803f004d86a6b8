// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { rulerOf, standingOf } from "./gauge";
import { marksOf } from "../parts/marks";
import { StaffGauge } from "./StaffGauge";

afterEach(cleanup);

describe("a staff gauge", () => {
  const level = {
    present: 5.7,
    low: 5.7,
    high: 10.2,
    inner: [6.5, 12] as [number, number],
    outer: [5, 14] as [number, number],
  };
  it("reaches around the normal range and the day", () => {
    const [low, high] = rulerOf(level);
    expect(low).toBeLessThan(5);
    expect(high).toBeGreaterThan(14);
    expect(rulerOf({ present: null, low: null, high: null })).toEqual([0, 1]);
    const [a, b] = rulerOf({ present: 7, low: 7, high: 7 });
    expect(b).toBeGreaterThan(a);
  });
  it("has its marks at round values", () => {
    expect(marksOf(4.5, 14.5, 5)).toEqual([6, 8, 10, 12, 14]);
    expect(marksOf(0.11, 0.19, 4)).toEqual([0.12, 0.14, 0.16, 0.18]);
    expect(marksOf(-3, 3, 3)).toEqual([-2, 0, 2]);
    expect(marksOf(1e9, 1e9 + 1, 4).length).toBeLessThan(10);
  });
  it("says where the level stands, in words and in colour", () => {
    expect(standingOf(5.7, level)).toBe("unusual");
    expect(standingOf(4.9, level)).toBe("critical");
    expect(standingOf(8, level)).toBe("normal");
    expect(standingOf(null, level)).toBe("normal");
    expect(standingOf(99, { inner: [6, null] })).toBe("normal");
    const { container } = render(<StaffGauge level={level} label="raceway-4 oxygen" unit="mg/l" />);
    expect(screen.getByRole("img").getAttribute("aria-label")).toBe(
      "Staff gauge of raceway-4 oxygen: 5.7 mg/l, today from 5.7 to 10.2",
    );
    expect(container.querySelector("path")?.getAttribute("fill")).toBe("var(--stale)");
  });
  it("is hatched when its level is old", () => {
    const { container } = render(<StaffGauge level={level} label="x" unit="" stale />);
    expect(container.querySelector("path")?.getAttribute("fill")).toBe("url(#hatch)");
  });
});

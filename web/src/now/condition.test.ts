import { describe, expect, it } from "vitest";
import type { Series, Value } from "../api/client";
import { live } from "../live/store";
import { bySite, conditionOf, isQuality } from "./condition";
import { findings } from "./LookFirst";
import { normalText } from "./SeriesRow";

const at = Date.parse("2026-11-03T07:00:00Z");
const value = (change: Partial<Value> = {}): Value =>
  ({
    path: "s/r/oxygen",
    time: "2026-11-03T07:00:00Z",
    value: 9,
    state: "",
    standing: "normal",
    unit: "mg/l",
    ...change,
  }) as Value;
const series = {
  path: "s/r/oxygen",
  fresh_for: "90s",
  unit: "mg/l",
  normal: { inner: [6.5, 12], outer: [5, 14] },
} as unknown as Series;

describe("how a series stands", () => {
  it.each([
    [0, value(), "well"],
    [90, value(), "well"],
    [91, value(), "stale"],
    [10, value({ ended: "2026-11-03T07:00:05Z" }), "stale"],
    [10, value({ ended: "2026-11-03T07:00:20Z" }), "well"],
    [900, value(), "stale"],
    [901, value(), "missing"],
    [10, value({ standing: "unusual" }), "unusual"],
    [10, value({ standing: "critical" }), "critical"],
    [100, value({ standing: "critical" }), "stale"],
  ])("after %d s", (s, v, want) => {
    expect(conditionOf(v, series, at + s * 1000, false)).toBe(want);
  });
  it("is in doubt when its quality says so, and worse things come first", () => {
    expect(conditionOf(value(), series, at, true)).toBe("uncertain");
    expect(conditionOf(value({ standing: "critical" }), series, at, true)).toBe("critical");
  });
  it("is judged by a minute where nothing is known of it", () => {
    expect(conditionOf(value(), undefined, at + 61_000, false)).toBe("stale");
  });
});

describe("what needs a look", () => {
  it("is the worst first, without what says how good others are", () => {
    live.values.clear();
    for (const v of [
      value({ path: "s/a/t" }),
      value({ path: "s/b/t", standing: "unusual" }),
      value({ path: "s/c/t", time: "2026-11-03T06:00:00Z" }),
      value({ path: "s/d/t", standing: "critical" }),
      value({ path: "s/e/t" }),
      value({ path: "s/e/t/quality", state: "uncertain", time: "2026-11-03T05:00:00Z" }),
    ])
      live.values.set(v.path, v);
    expect(findings(new Map(), at).map((f) => `${f.path} ${f.condition}`)).toEqual([
      "s/d/t critical",
      "s/b/t unusual",
      "s/c/t missing",
      "s/e/t uncertain",
    ]);
    expect(isQuality("s/e/t/quality", live.values)).toBe(true);
    expect(isQuality("s/x/quality", live.values)).toBe(false); // nothing that it is the quality of
    live.values.clear();
  });
});

describe("series", () => {
  it("stand by site and station", () => {
    expect(bySite(["b/x/t", "a/y/u", "a/y/t", "a/z/deep/t", "a/alone"])).toEqual([
      {
        site: "a",
        stations: [
          { station: "a", paths: ["a/alone"] },
          { station: "a/y", paths: ["a/y/t", "a/y/u"] },
          { station: "a/z/deep", paths: ["a/z/deep/t"] },
        ],
      },
      { site: "b", stations: [{ station: "b/x", paths: ["b/x/t"] }] },
    ]);
  });
  it("say what is usual for them, in the unit that is liked", () => {
    const asIs = (symbol: string) => ({ symbol: "", written: symbol, scale: 1, offset: 0 });
    expect(normalText(series, asIs)).toBe(", normal 6.5 to 12 mg/l");
    const open = { ...series, normal: { inner: [null, 12], outer: null } } as unknown as Series;
    expect(normalText(open, asIs)).toBe(", normal – to 12 mg/l");
    expect(normalText(undefined, asIs)).toBe("");
  });
});

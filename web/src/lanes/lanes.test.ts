import selectors from "../../../internal/core/series/testdata/selectors.json";
import { describe, expect, it } from "vitest";
import type { Series } from "../api/client";
import { readLanes, writeLanes } from "../board/address";
import { at, emptyBoard, matches, movedTo } from "../board/board";
import { axesOf, axisOf, leftOut, margins, seriesOf } from "./axes";
import { beside, compass, quarters, unwrapped } from "./bearing";
import type { BoardLane } from "../api/client";
import { coverage } from "./kinds/coverage";
import { labelsOf, lastKnown, whyMissing, windowAt, type Row } from "./rows";
import { pieces, statesOf } from "./strips";
import { timeAt, xOf } from "./view";

const hour = 3_600_000;

function row(values: Record<string, (number | null)[]>): Row {
  const n = Object.values(values)[0]?.length ?? 0;
  const starts = Array.from({ length: n }, (_, i) => i * hour);
  return {
    key: "a",
    name: "a",
    kind: "state",
    unit: "",
    states: {},
    shift: "",
    starts,
    ends: starts.map((s) => s + hour),
    values,
    empty: starts.map((_, i) => Object.values(values).every((v) => v[i] === null)),
    open: starts.map(() => false),
    whole: {},
    wholeTimes: {},
    coverage: 1,
    missing: [],
    tier: "1m",
    width: "1h",
  };
}

describe("strips of states", () => {
  it("join windows in which one state held, and keep apart what changed within one", () => {
    const strip = pieces(row({ "share:0": [1, 1, 0.25, null, 0], "share:1": [0, 0, 0.75, null, 1] }), [0, 1]);
    expect(strip).toEqual([
      { from: 0, to: 2 * hour, shares: [[0, 1]] },
      {
        from: 2 * hour,
        to: 3 * hour,
        shares: [
          [0, 0.25],
          [1, 0.75],
        ],
      },
      { from: 4 * hour, to: 5 * hour, shares: [[1, 1]] },
    ]);
  });
  it("do not go on over a window of which nothing is known", () => {
    const strip = pieces(row({ "share:1": [1, null, 1] }), [1]);
    expect(strip.map((p) => [p.from, p.to])).toEqual([
      [0, hour],
      [2 * hour, 3 * hour],
    ]);
  });
  it("know the names of all rows, lowest value first", () => {
    expect(statesOf([{ on: 1, off: 0 }, { blocked: 2 }]).map((s) => s.name)).toEqual([
      "off",
      "on",
      "blocked",
    ]);
  });
});

describe("bearings", () => {
  it("turn over north the short way", () => {
    expect(unwrapped([350, 5, 20, 355])).toEqual([350, 365, 380, 355]);
    expect(unwrapped([10, 350, null, 340])).toEqual([10, -10, null, -20]);
    const turning = unwrapped(Array.from({ length: 40 }, (_, i) => (i * 30) % 360));
    for (let i = 1; i < turning.length; i++) expect((turning[i] ?? 0) - (turning[i - 1] ?? 0)).toBe(30);
  });
  it("of several lines are drawn beside one another", () => {
    expect(beside([350, null, 340], [5, 10])).toEqual([-10, null, -20]);
    expect(beside([10, 20], [365, 380])).toEqual([370, 380]);
    expect(beside([90], [270])).toEqual([450]); // opposite is as far either way
    expect(beside([null], [700])).toEqual([null]);
    expect(beside([100, 120], [200])).toEqual([100, 120]);
  });
  it("are called by the points of the compass", () => {
    expect([0, 44, 90, 359, 383, -90].map(compass)).toEqual(["N", "NE", "E", "N", "NE", "W"]);
    expect(quarters(340, 460)).toEqual([360, 405, 450]);
    expect(quarters(0, 360)).toEqual([0, 90, 180, 270, 360]);
  });
});

describe("axes", () => {
  const series = (path: string, unit: string): Series => ({ path, unit, kind: "gauge" }) as Series;
  const catalogue = new Map(
    [
      series("s/r1/oxygen", "mg/l"),
      series("s/r1/temp", "Cel"),
      series("s/r2/oxygen", "mg/l"),
      series("s/r1/oxygen/quality", ""),
    ].map((s) => [s.path, s]),
  );
  const units = (symbol: string) => ({
    symbol: "",
    written: symbol === "Cel" ? "°C" : symbol,
    scale: 1,
    offset: 0,
  });
  it("are one for each unit", () => {
    const lane = { kind: "chart", series: ["s/+/oxygen", "s/r1/temp"] } as const;
    expect(seriesOf({ ...lane, series: [...lane.series] }, catalogue).map((s) => s.path)).toEqual([
      "s/r1/oxygen",
      "s/r2/oxygen",
      "s/r1/temp",
    ]);
    expect(axesOf({ ...lane, series: [...lane.series] }, catalogue, units)).toEqual(["mg/l", "°C"]);
    expect(axesOf({ kind: "chart", series: ["{station}/temp"] }, catalogue, units, "s/r1")).toEqual(["°C"]);
    expect(axesOf({ kind: "states", series: ["s/#"] }, catalogue, units)).toEqual([]);
  });
  it("are four at most, and nothing stands on that of another unit", () => {
    const many = new Map(["a", "b", "c", "d", "e", "f"].map((u) => [`s/r/${u}`, series(`s/r/${u}`, u)]));
    const lane = { kind: "chart" as const, series: ["s/#"] };
    const axes = axesOf(lane, many, units);
    expect(axes).toEqual(["a", "b", "c", "d"]);
    expect(leftOut(lane, many, units)).toEqual(["e", "f"]);
    expect(["a", "d", "f"].map((u) => axisOf(lane, axes, u))).toEqual([0, 3, -1]);
    const growth = { ...lane, kind: "growth" as const };
    expect([axesOf(growth, many, units), leftOut(growth, many, units).length]).toEqual([["a"], 5]);
    expect(leftOut({ ...lane, kind: "states" }, many, units)).toEqual([]);
  });
  it("leave all plots of a page the same margins", () => {
    const { left, right } = margins([["mg/l", "°C", "kW"], ["m"]], 1000);
    const view = { span: { from: 0, to: 100, end: 200 }, px: 1000, left, right };
    expect(left).toBe(112);
    expect(xOf(view, 0)).toBe(left);
    expect(xOf(view, 200)).toBe(1000 - right);
    expect(timeAt(view, xOf(view, 50))).toBeCloseTo(50);
    expect(timeAt(view, -500)).toBe(0);
  });
});

describe("rows", () => {
  it("find the window of a time, and the last that has a value", () => {
    const r = row({ mean: [1, 2, null] });
    expect([-1, 0, hour - 1, hour, 3 * hour].map((t) => windowAt(r, t))).toEqual([-1, 0, 0, 1, -1]);
    expect(lastKnown(r, "mean")).toBe(2);
  });
  it("are told apart by what differs in their names", () => {
    expect(labelsOf(["s/raceway-1/oxygen", "s/raceway-2/oxygen"])).toEqual(["raceway-1", "raceway-2"]);
    expect(labelsOf(["s/r1/water_temp"])).toEqual(["water temp"]);
    expect(labelsOf(["a/r1/oxygen", "b/r1/temp"])).toEqual(["a oxygen", "b temp"]);
  });
});

describe("boards", () => {
  it("stand for a place", () => {
    expect(at("{station}/oxygen", "s/r1")).toBe("s/r1/oxygen");
    expect(at("{site}/+/oxygen", "s/r1")).toBe("s/+/oxygen");
    expect(at("{station}/oxygen", "s")).toBeUndefined();
  });
  it("find the series that the service would find", () => {
    for (const { selector, path, names } of selectors)
      expect(matches(selector, path), `${selector} and ${path}`).toBe(names);
  });
  it("come back from an address as they went", () => {
    const board = {
      ...emptyBoard,
      head: [{ series: "s/r1/oxygen", gauge: true }],
      lanes: [
        { kind: "chart" as const, series: ["s/+/oxygen", "s/r1/temp"] },
        { kind: "states" as const, series: ["s/r1/aerator"], height: 90 },
        { kind: "text" as const, text: "see: [this](/x), that" },
      ],
    };
    const params = new URLSearchParams("last=1d");
    writeLanes(params, board);
    expect(params.getAll("lane")[0]).toBe("chart:s/+/oxygen,s/r1/temp");
    const back = readLanes(new URLSearchParams(params.toString()));
    expect(back.board.lanes).toEqual(board.lanes);
    expect(back.board.head).toEqual(board.head);
    expect(back.wrong).toBeUndefined();
    expect(readLanes(new URLSearchParams("lane={nonsense&lane=dial:x")).wrong).toMatch("cannot be read");
  });
  it("let a lane go to another place", () => {
    expect(movedTo(["a", "b", "c"], 0, 2)).toEqual(["b", "c", "a"]);
    expect(movedTo(["a", "b"], 1, 9)).toEqual(["a", "b"]);
  });
});

it("a window says why something is missing of it", () => {
  const r = row({ coverage: [1, 0.4, 0, null] });
  const down = {
    from: hour * 1.2,
    to: hour * 2.5,
    of: "",
    cause: "source_down",
    detail: "connection refused",
  };
  r.missing = [down, { from: hour * 3, to: Infinity, of: "readings", cause: "dropped", detail: "" }];
  expect(whyMissing(r, 0, hour, false)).toBe("");
  expect(whyMissing(r, hour, 2 * hour, false)).toBe("source down");
  expect(whyMissing(r, 3 * hour, 4 * hour, false)).toBe(""); // its summaries are there
  expect(whyMissing(r, 3 * hour, 4 * hour, true)).toBe("dropped");
  const lane = { kind: "coverage", series: [] } as unknown as BoardLane;
  expect(coverage.present(lane, r, 0, "")).toBe("100 %");
  expect(coverage.present(lane, r, 1, "")).toBe("40 %: source down");
  expect(coverage.facts(lane, r, "", () => undefined)[1]?.[0]).toBe("source down");
});

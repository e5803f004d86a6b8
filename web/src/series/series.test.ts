import { describe, expect, it } from "vitest";
import { asking } from "../board/BoardEditor";
import { form } from "../board/board";
import { namesOf, stepsOf } from "../rejects/hours";
import { dump } from "../rejects/dump";
import { binsOf } from "./bins";
import { causesOf, inWeeks } from "./calendar";

const day = 86_400_000;

describe("the calendar of coverage", () => {
  it("stands in columns of weeks that begin on Monday", () => {
    const starts = [0, 1, 2, 3, 4].map((d) => d * day); // 1 January 1970 was a Thursday
    const days = inWeeks(
      starts,
      starts.map((s) => s + day),
      [1, 0.5, null, 0, 1],
      (ms) => (Math.floor(ms / day) + 3) % 7,
    );
    expect(days.map((d) => [d.week, d.weekday])).toEqual([
      [0, 3],
      [0, 4],
      [0, 5],
      [0, 6],
      [1, 0],
    ]);
    expect(days[2]?.coverage).toBeNull();
  });
  it("names the causes of a gap, the longest first", () => {
    const outages = [
      { link: "a", began: -100, ended: 50, reason: "x" },
      { link: "b", began: 10, ended: 200, reason: "y" },
      { link: "c", began: 500, ended: 600, reason: "z" },
    ];
    expect(causesOf({ start: 0, end: 100 }, outages)).toEqual([
      { link: "b", reason: "y", ms: 90 },
      { link: "a", reason: "x", ms: 50 },
    ]);
  });
});

describe("bins", () => {
  it("are of a round width and hold every value", () => {
    const bins = binsOf(5.68, 10.82);
    expect(bins[0]).toEqual([5.5, 6]);
    expect(bins[bins.length - 1]?.[1]).toBeGreaterThan(10.82);
    for (let i = 1; i < bins.length; i++) expect(bins[i]?.[0]).toBe(bins[i - 1]?.[1]);
    expect(binsOf(null, 3)).toEqual([]);
    expect(binsOf(4, 4).length).toBeGreaterThan(0);
    expect(binsOf(-1e6, 1e6).length).toBeLessThanOrEqual(40);
  });
});

describe("rejects over time", () => {
  it("are counted in steps, by rule and by source", () => {
    const counts = {
      from: "2026-11-01T00:00:00Z",
      to: "2026-11-01T12:00:00Z",
      counts: [
        { hour: "2026-11-01T01:00:00Z", source: "probes", rule: "range", count: 3 },
        { hour: "2026-11-01T05:00:00Z", source: "probes", rule: "stuck", count: 2 },
        { hour: "2026-11-01T07:00:00Z", source: "silo", rule: "range", count: 5 },
      ],
    };
    const steps = stepsOf(counts, 6, "rule");
    expect(steps.map((s) => s.all)).toEqual([5, 5]);
    expect(namesOf(steps)).toEqual([
      { name: "range", count: 8 },
      { name: "stuck", count: 2 },
    ]);
    expect(namesOf(stepsOf(counts, 1, "source"))[0]).toEqual({ name: "probes", count: 5 });
  });
  it("are opened with their bytes, and as text where they are one", () => {
    expect(dump(btoa("-99.9")).text).toBe("-99.9");
    const binary = dump(btoa("\x00\xffA".repeat(6)));
    expect(binary.text).toBeNull();
    expect(binary.lines[1]).toMatch(/^0010 {2}ff 41 /);
    expect(binary.length).toBe(18);
  });
});

describe("a board about a place", () => {
  it("becomes one that asks for it", () => {
    const board = asking({
      form,
      title: "x",
      about: "s/r1",
      head: [{ series: "s/r1/oxygen" }],
      lanes: [
        {
          kind: "chart",
          series: ["s/r1/oxygen", "s/r10/oxygen"],
          calculate: { name: "c", formula: "a", inputs: { a: "s/r1/t@max" } },
        },
      ],
    });
    expect(board.asks).toBe("station");
    expect(board.head?.[0]?.series).toBe("{station}/oxygen");
    expect(board.lanes?.[0]?.series).toEqual(["{station}/oxygen", "s/r10/oxygen"]);
    expect(board.lanes?.[0]?.calculate?.inputs).toEqual({ a: "{station}/t@max" });
  });
});

// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import type { ReactNode } from "react";
import { afterEach, describe, expect, it, vi } from "vitest";
import type { Series } from "../api/client";
import type { Range } from "../time/range";
import { Bars } from "./Bars";
import { pointed } from "./cursor";
import { Legend } from "./Legend";
import type { Row } from "./rows";
import { CoverageRows, Strips } from "./Strips";
import { partsOf } from "./TextRow";
import { TimeAxis } from "./TimeAxis";
import { paramsOf, plainName, questionsOf } from "./questions";
import { ViewContext, type View } from "./view";

afterEach(() => {
  cleanup();
  pointed.set(null);
});

const hour = 3_600_000;
// A day of 25 hours: the clocks of Oslo are set back on 25 October 2026.
const from = Date.parse("2026-10-24T22:00:00Z");
const end = Date.parse("2026-10-25T23:00:00Z");

function viewOf(change: Partial<View> = {}): View {
  return {
    range: { kind: "span", from, to: end },
    span: { from, to: end, end },
    zone: "Europe/Oslo",
    width: "1h",
    hours: "",
    compare: "",
    px: 1000,
    left: 100,
    scale: 1,
    right: 100,
    catalogue: new Map(),
    units: (symbol) => ({ symbol: "", written: symbol, scale: 1, offset: 0 }),
    collects: false,
    zoom: () => undefined,
    ...change,
  };
}

const within = (view: View, children: ReactNode) =>
  render(<ViewContext value={view}>{children}</ViewContext>);

function row(name: string, values: Record<string, (number | null)[]>, more: Partial<Row> = {}): Row {
  const n = Object.values(values)[0]?.length ?? 0;
  const starts = Array.from({ length: n }, (_, i) => from + i * hour);
  return {
    key: name,
    name,
    kind: "gauge",
    unit: "mg/l",
    states: {},
    shift: "",
    starts,
    ends: starts.map((s) => s + hour),
    values,
    empty: starts.map(() => false),
    open: starts.map(() => false),
    whole: {},
    wholeTimes: {},
    coverage: 0.5,
    missing: [],
    tier: "1m",
    width: "1h",
    ...more,
  };
}

describe("lanes", () => {
  it("draw 25 windows of a day of 25 hours, one beside the other", () => {
    const grown = row("p/energy", { increase: Array.from({ length: 25 }, () => 2) }, { unit: "kWh" });
    const flow = row("p/flow", { increase: [900] }, { unit: "m³" });
    const { container } = within(
      viewOf(),
      <Bars rows={[flow, grown]} unit="kWh" height={120} single={null} />,
    );
    const bars = [...container.querySelectorAll("rect")];
    expect(bars).toHaveLength(25);
    expect(Number(bars[0]?.getAttribute("x"))).toBe(100);
    expect(Number(bars[1]?.getAttribute("x")) - 100).toBeCloseTo(800 / 25);
    const tops = new Set(bars.map((b) => b.getAttribute("height")));
    expect(tops.size).toBe(1);
    expect(bars[0]?.parentElement?.getAttribute("fill")).toBe("var(--hue-2)"); // as in its figures
    expect(container.querySelector("[data-units]")?.textContent).toBe("kWh");
  });
  it("draw a strip by the states, and a window that saw two by their shares", () => {
    const states = { off: 0, on: 1 };
    const r = row(
      "r/aerator",
      { "share:0": [0, 0.25, 1], "share:1": [1, 0.75, 0] },
      { kind: "state", states },
    );
    const { container } = within(viewOf(), <Strips rows={[r]} height={40} single={null} />);
    const rects = [...container.querySelectorAll("rect")];
    expect(rects.map((x) => x.getAttribute("fill"))).toEqual([
      "var(--water)",
      "var(--state-rest)",
      "var(--water)",
      "var(--state-rest)",
    ]);
    const [rest, running] = [
      Number(rects[1]?.getAttribute("height")),
      Number(rects[2]?.getAttribute("height")),
    ];
    expect(running / rest).toBeCloseTo(3);
  });
  it("hatch what nothing is known of, in a row of coverage", () => {
    const { container } = within(
      viewOf(),
      <CoverageRows rows={[row("a", { coverage: [1, 0, 0.5] })]} height={30} single={null} />,
    );
    const fills = [...container.querySelectorAll("svg > g rect")].map((x) => x.getAttribute("fill"));
    expect(fills).toEqual(["var(--water)", "url(#hatch)", "var(--water)"]);
  });
  it("say in figures what they show, at the cursor and over the range", () => {
    const whole = { mean: 9.25, min: 5.68, max: 10.1 };
    const times = { min_at: "2026-10-25T01:06:00Z" };
    const lane = { kind: "chart" as const, series: ["s/r4/oxygen"] };
    const rows = [
      row(
        "s/r4/oxygen",
        { mean: [9, 8, 7], last: [9.1, 8.1, 7.1], min: [8, 7, 6] },
        { whole, wholeTimes: times },
      ),
      row("s/r4/oxygen", { mean: [9, 9, 9] }, { key: "ghost", shift: "1d", whole: { mean: 9 } }),
    ];
    const picked = vi.fn();
    within(viewOf(), <Legend lane={lane} rows={rows} single={null} onSingle={picked} />);
    expect(document.querySelector("[data-present]")?.textContent).toBe("7.1 mg/l");
    expect(document.body.textContent).toContain("lowest 5.68");
    expect(document.body.textContent).toContain("a day earlier 9 mg/l, now +0.25");
    fireEvent.click(screen.getByRole("button"));
    expect(picked).toHaveBeenCalledWith("s/r4/oxygen");
    cleanup();

    const growth = { kind: "growth" as const, series: ["s/p/energy"] };
    const both = [
      row("s/p/energy", { increase: [1] }, { whole: { increase: 208.9 } }),
      row("s/p/energy", { increase: [1] }, { key: "ghost", shift: "1d", whole: { increase: 208.9 - 9e-14 } }),
    ];
    within(viewOf(), <Legend lane={growth} rows={both} single={null} onSingle={picked} />);
    expect(document.body.textContent).toContain("now the same");
  });
});

describe("the time axis", () => {
  it("is a slider that the keyboard moves, and says where it stands", async () => {
    const ranged = vi.fn<(range: Range) => void>();
    const noted = vi.fn();
    within(viewOf(), <TimeAxis onRange={ranged} onNote={noted} />);
    const slider = screen.getByRole("slider");
    expect(slider.getAttribute("aria-valuetext")).toContain("nowhere");
    fireEvent.keyDown(slider, { key: "Home" });
    fireEvent.keyDown(slider, { key: "ArrowRight" });
    expect(pointed.at).toBe(from + hour);
    fireEvent.keyDown(slider, { key: "ArrowRight", shiftKey: true });
    expect(pointed.at).toBe(from + 11 * hour);
    fireEvent.keyDown(slider, { key: "PageUp" });
    expect(ranged).toHaveBeenCalledWith({ kind: "span", from: from - 24 * hour, to: from });
    fireEvent.keyDown(slider, { key: "n" });
    expect(noted).toHaveBeenCalled();
    await vi.waitFor(() => expect(slider.getAttribute("aria-valuetext")).toMatch(/Oct/));
  });
  it("shows the hour that comes twice twice", () => {
    within(viewOf({ px: 2400 }), <TimeAxis onRange={() => undefined} />);
    const texts = [...document.querySelectorAll("svg text")].map((t) => t.textContent);
    expect(texts.filter((t) => t === "02:00")).toHaveLength(2);
  });
});

describe("questions", () => {
  const series = (path: string, unit: string, tiers: string[]): Series =>
    ({
      path,
      unit,
      kind: "gauge",
      tiers,
      states: {},
      normal: { inner: null, outer: null },
    }) as unknown as Series;
  const catalogue = new Map(["a", "b"].map((s) => [`s/${s}/t`, series(`s/${s}/t`, "Cel", ["1h"])]));
  const fahrenheit: View["units"] = (symbol) =>
    symbol === "Cel"
      ? { symbol: "degF", written: "°F", scale: 1.8, offset: 32 }
      : { symbol: "", written: symbol, scale: 1, offset: 0 };
  it("ask in the unit that is liked, and for no windows that no tier fills", () => {
    const [q] = questionsOf(
      { kind: "chart", series: ["s/+/t"] },
      viewOf({ catalogue, units: fahrenheit, width: "1m", compare: "1w", hours: "22:00-06:00" }),
    );
    expect(q).toMatchObject({
      select: ["s/+/t"],
      width: "1h",
      unit: ["degF"],
      shift: "1w",
      hours: "22:00-06:00",
      zone: "Europe/Oslo",
    });
    expect(paramsOf(q ?? {}, { from, to: end }).get("from")).toBe("2026-10-24T22:00:00.000Z");
  });
  it("ask for all names at once that may be, and for each by itself that could spoil the others", () => {
    const many = new Map(catalogue);
    for (const [path, unit, kind] of [
      ["s/a/gate", "", "state"],
      ["s/a/volts", "V", "gauge"],
    ] as const)
      many.set(path, { ...series(path, unit, ["1h"]), kind });
    for (let i = 0; i < 70; i++) many.set(`w/${i}/t`, series(`w/${i}/t`, "Cel", ["1h"]));
    const names = ["s/a/t", "s/gone/t", "s/a/volts", "s/a/gate", "s/b/t"];
    const asked = (names: string[], more: object = {}, units?: View["units"]) =>
      questionsOf(
        { kind: "chart", series: names, ...more },
        viewOf({ catalogue: many, ...(units && { units }) }),
      ).map((q) => [q.select, q.unit]);
    expect(asked(names)).toEqual([
      [["s/a/t", "s/a/volts", "s/b/t"], undefined],
      [["s/gone/t"], undefined],
      [["s/a/gate"], undefined],
    ]);
    expect(asked(names, {}, fahrenheit).map(([select]) => select)).toEqual([
      ["s/a/t", "s/b/t"],
      ["s/gone/t"],
      ["s/a/volts"],
      ["s/a/gate"],
    ]);
    expect(asked(names, { stat: "p95~" })).toHaveLength(5);
    expect(asked(names, { stat: "p95" })).toHaveLength(5);
    const month = { from, to: from + 30 * 24 * hour, end: from + 30 * 24 * hour };
    const fine = viewOf({ catalogue, width: "10s", span: month });
    for (const one of catalogue.values()) one.tiers = ["10s"];
    expect(questionsOf({ kind: "chart", series: ["s/a/t", "s/b/t"] }, fine)).toHaveLength(2);
    for (const one of catalogue.values()) one.tiers = ["1h"];
    expect(asked(["w/+/t", "s/a/t"])).toHaveLength(2);
    const [q] = questionsOf({ kind: "chart", series: ["s/a/t", "s/b/t"] }, viewOf({ catalogue }));
    expect(paramsOf(q ?? {}).getAll("select")).toEqual(["s/a/t", "s/b/t"]);
  });
  it("ask for a difference and a calculation by their inputs", () => {
    const asked = questionsOf(
      {
        kind: "chart",
        series: ["s/a/t", "s/b/t"],
        difference: true,
        calculate: { name: "x y", formula: "a*2", inputs: { a: "{station}/t@max" }, unit: "K" },
      },
      viewOf({ catalogue, about: "s/a" }),
    );
    expect(asked[0]).toMatchObject({
      input: ["a=s/a/t@mean", "b=s/b/t@mean"],
      calc: ["difference=a-b"],
      unit: ["difference=Cel"],
    });
    expect(asked[1]).toMatchObject({ input: ["a=s/a/t@max"], calc: ["x_y=a*2"], unit: ["x_y=K"] });
    expect(plainName("2nd")).toBe("_2nd");
  });
  it("ask for percentiles in windows that they are kept for", () => {
    const lane = { kind: "chart" as const, series: ["x/y"], stat: "p95~" };
    expect(questionsOf(lane, viewOf({ width: "5m" }))[0]).toMatchObject({ width: "15m" });
    expect(questionsOf(lane, viewOf({ width: "1h" }))[0]).toMatchObject({ width: "1h" });
  });
  it("ask nothing of a place that is not chosen", () => {
    expect(questionsOf({ kind: "chart", series: ["{station}/t"] }, viewOf({ catalogue }))).toEqual([]);
  });
});

describe("text", () => {
  it("has links to pages and to the web, and to nothing that runs", () => {
    expect(
      partsOf(
        "see [a](/boards) or [b](https://x.example/y), not [c](javascript:alert(1)) nor [d](//x.example)",
      ),
    ).toEqual([
      { text: "see " },
      { text: "a", to: "/boards" },
      { text: " or " },
      { text: "b", to: "https://x.example/y" },
      { text: ", not [c](javascript:alert(1)) nor [d](//x.example)" },
    ]);
  });
});

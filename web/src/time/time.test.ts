import { describe, expect, it } from "vitest";
import type { Health } from "../api/client";
import {
  clamped,
  earliest,
  fittingWidth,
  latest,
  moved,
  readRange,
  scaled,
  spanOf,
  writeRange,
} from "./range";
import { siteZoneOf } from "./site";
import { ticks } from "./ticks";
import { clockAt, dayStart, isZone, timeOf, zoneText } from "./zone";

const oslo = "Europe/Oslo";
const utc = (text: string) => Date.parse(text + "Z");

describe("zones", () => {
  it("are those of the site, or the service's where sites differ", () => {
    const zones = { "far-moor": "America/Halifax", "low-fen": "Europe/Oslo" };
    const health = { zone: "Europe/Oslo", zones } as unknown as Health;
    expect(siteZoneOf(health, ["far-moor/a/t", "far-moor/b/t"])).toEqual({
      zone: "America/Halifax",
      differ: false,
    });
    expect(siteZoneOf(health, ["far-moor/a/t", "low-fen/b/t"])).toEqual({ zone: oslo, differ: true });
    expect(siteZoneOf(health, ["low-fen/a/t", "unheard/b/t"])).toEqual({ zone: oslo, differ: false });
    expect(siteZoneOf(health, [])).toEqual({ zone: oslo, differ: false });
    expect(siteZoneOf(undefined, ["far-moor/a/t"])).toEqual({ zone: "UTC", differ: false });
  });
  it("read the clocks and find the time they show", () => {
    expect(clockAt(utc("2026-07-01T22:30:00"), oslo)).toMatchObject({
      month: 7,
      day: 2,
      hour: 0,
      minute: 30,
    });
    expect(timeOf(oslo, 2026, 1, 15, 12)).toBe(utc("2026-01-15T11:00:00"));
    expect(timeOf(oslo, 2026, 7, 15, 12)).toBe(utc("2026-07-15T10:00:00"));
    expect(timeOf("Asia/Kathmandu", 2026, 1, 1)).toBe(utc("2025-12-31T18:15:00"));
  });
  it("take the first of two times that look alike, and the change where there is none", () => {
    expect(timeOf(oslo, 2026, 10, 25, 2, 30)).toBe(utc("2026-10-25T00:30:00"));
    expect(timeOf(oslo, 2026, 3, 29, 2, 30)).toBe(utc("2026-03-29T01:00:00"));
  });
  it("begin days where the zone does, also days of 23 and 25 hours", () => {
    const spring = dayStart(utc("2026-03-29T12:00:00"), oslo);
    expect(dayStart(spring, oslo, 1) - spring).toBe(23 * 3_600_000);
    const autumn = dayStart(utc("2026-10-25T12:00:00"), oslo);
    expect(dayStart(autumn, oslo, 1) - autumn).toBe(25 * 3_600_000);
  });
  it("say how they are called", () => {
    expect(zoneText(oslo, utc("2026-07-01T00:00:00"))).toBe("Europe/Oslo, UTC+02:00");
    expect(zoneText("America/St_Johns", utc("2026-01-01T00:00:00"))).toBe("America/St Johns, UTC−03:30");
    expect(isZone("Middle/Earth")).toBe(false);
  });
});

describe("ranges", () => {
  const now = utc("2026-10-28T09:00:00"); // a Wednesday
  it.each([
    ["today", "2026-10-27T23:00:00", "2026-10-28T09:00:00", "2026-10-28T23:00:00"],
    ["yesterday", "2026-10-26T23:00:00", "2026-10-27T23:00:00", "2026-10-27T23:00:00"],
    ["this week", "2026-10-25T23:00:00", "2026-10-28T09:00:00", "2026-11-01T23:00:00"],
    ["last week", "2026-10-18T22:00:00", "2026-10-25T23:00:00", "2026-10-25T23:00:00"], // 169 hours
    ["last month", "2026-08-31T22:00:00", "2026-09-30T22:00:00", "2026-09-30T22:00:00"],
    ["this year", "2025-12-31T23:00:00", "2026-10-28T09:00:00", "2026-12-31T23:00:00"],
  ])("of the calendar: %s", (calendar, from, to, end) => {
    expect(spanOf({ kind: "calendar", calendar }, now, oslo)).toEqual({
      from: utc(from),
      to: utc(to),
      end: utc(end),
    });
  });
  it("reach back by months of the calendar", () => {
    expect(spanOf({ kind: "last", last: "1mo" }, now, oslo).from).toBe(utc("2026-09-28T08:00:00"));
    expect(spanOf({ kind: "last", last: "6h" }, now, oslo).from).toBe(now - 6 * 3_600_000);
  });
  it("stay within what can be asked for, however far one goes", () => {
    let span = { from: now - 1000, to: now, end: now };
    for (let i = 0; i < 200; i++) {
      const next = scaled(span, 3);
      if (next.kind !== "span") throw new Error("a span is a span");
      span = { from: next.from, to: next.to, end: next.to };
    }
    expect(span.from).toBeGreaterThanOrEqual(earliest);
    expect(span.to).toBeLessThanOrEqual(latest);
    expect(moved({ from: earliest, to: earliest + 5000, end: earliest + 5000 }, -5, "UTC")).toMatchObject({
      from: earliest,
    });
    expect(clamped(5e15, 9e15)).toEqual({ kind: "span", from: latest - 1000, to: latest });
  });
  it("move by days, weeks, months and years of the calendar where they are made of them", () => {
    const at = (text: string) => Date.parse(text);
    const step = (from: string, end: string, by: number) => {
      const next = moved({ from: at(from), to: at(end), end: at(end) }, by, oslo);
      if (next.kind !== "span") throw new Error("a span is a span");
      return [new Date(next.from).toISOString(), new Date(next.to).toISOString()];
    };
    // The day before the clocks are set ahead, that day of 23 hours, and the one after it.
    expect(step("2027-03-26T23:00:00Z", "2027-03-27T23:00:00Z", 1)).toEqual([
      "2027-03-27T23:00:00.000Z",
      "2027-03-28T22:00:00.000Z",
    ]);
    expect(step("2027-03-27T23:00:00Z", "2027-03-28T22:00:00Z", 1)).toEqual([
      "2027-03-28T22:00:00.000Z",
      "2027-03-29T22:00:00.000Z",
    ]);
    expect(step("2026-10-18T22:00:00Z", "2026-10-25T23:00:00Z", 1)).toEqual([
      "2026-10-25T23:00:00.000Z",
      "2026-11-01T23:00:00.000Z",
    ]);
    expect(step("2027-02-28T23:00:00Z", "2027-03-31T22:00:00Z", -1)).toEqual([
      "2027-01-31T23:00:00.000Z",
      "2027-02-28T23:00:00.000Z",
    ]);
    expect(step("2025-12-31T23:00:00Z", "2026-12-31T23:00:00Z", 1)).toEqual([
      "2026-12-31T23:00:00.000Z",
      "2027-12-31T23:00:00.000Z",
    ]);
    expect(step("2026-11-30T10:30:00Z", "2026-11-30T11:30:00Z", -2)).toEqual([
      "2026-11-30T08:30:00.000Z",
      "2026-11-30T09:30:00.000Z",
    ]);
  });
  it.each([
    "from=99999999999999999&to=1",
    "from=yesterday&to=2026-01-01",
    "from=2026-01-02T00:00:00Z&to=2026-01-01T00:00:00Z",
    "from=-1e300&to=1e300",
    "last=forever",
    "last=99999999y",
    "last=0s",
    "range=next week",
    "from=2026-01-02T00:00:00Z",
  ])("of an address that says nonsense are refused with a reason: %s", (query) => {
    const read = readRange(new URLSearchParams(query));
    expect(read.range).toBeUndefined();
    expect(read.wrong).toMatch(/\w/);
  });
  it("come back from an address as they went", () => {
    for (const range of [
      { kind: "last", last: "3d" },
      { kind: "calendar", calendar: "last week" },
      { kind: "span", from: now, to: now + 60_000 },
    ] as const) {
      const params = new URLSearchParams("last=1h&series=a");
      writeRange(params, range);
      expect(readRange(params).range).toEqual(range);
      expect(params.get("series")).toBe("a");
    }
  });
  it("are cut into as many windows as can be drawn", () => {
    expect(fittingWidth({ from: 0, end: 86_400_000 }, 400)).toBe("5m");
    expect(fittingWidth({ from: 0, end: 365 * 86_400_000 }, 400)).toBe("1d");
    expect(fittingWidth({ from: 0, end: 60_000 }, 400)).toBe("10s");
  });
});

describe("the time axis", () => {
  const texts = (from: string, to: string, most: number) =>
    ticks(utc(from), utc(to), oslo, most, "en-GB").map((t) => t.text);
  it("has round times of the zone's clocks", () => {
    expect(texts("2026-07-01T21:30:00", "2026-07-02T02:30:00", 6)).toEqual([
      "2 Jul",
      "01:00",
      "02:00",
      "03:00",
      "04:00",
    ]);
    expect(texts("2026-06-28T00:00:00", "2026-07-03T00:00:00", 6)).toEqual([
      "29 Jun",
      "30 Jun",
      "1 Jul",
      "2 Jul",
      "3 Jul",
    ]);
    expect(texts("2025-11-15T00:00:00", "2026-03-15T00:00:00", 6)).toEqual(["Dec", "2026", "Feb", "Mar"]);
  });
  it("counts an hour twice where the clocks are set back, and leaves one out where they are set ahead", () => {
    const back = ticks(utc("2026-10-24T22:00:00"), utc("2026-10-25T04:00:00"), oslo, 8, "en-GB");
    expect(back.map((t) => t.text)).toEqual(["25 Oct", "01:00", "02:00", "02:00", "03:00", "04:00"]);
    expect(new Set(back.map((t) => t.at)).size).toBe(6);
    expect(texts("2026-03-28T23:00:00", "2026-03-29T03:00:00", 6)).toEqual([
      "29 Mar",
      "01:00",
      "03:00",
      "04:00",
    ]);
    const quarters = ticks(utc("2026-03-28T23:00:00"), utc("2026-03-29T22:00:00"), oslo, 6, "en-GB");
    expect(quarters.map((t) => t.text)).toEqual(["29 Mar", "06:00", "12:00", "18:00"]);
    expect((quarters[1]?.at ?? 0) - (quarters[0]?.at ?? 0)).toBe(5 * 3_600_000);
  });
  it("never has more marks than asked for, by much", () => {
    for (const length of [1, 60, 3600, 86_400, 30 * 86_400, 3 * 366 * 86_400, 90 * 366 * 86_400]) {
      const from = utc("2026-10-20T00:00:00");
      const found = ticks(from, from + length * 1000, oslo, 8, "en-GB");
      expect(found.length).toBeLessThanOrEqual(10);
    }
  });
});

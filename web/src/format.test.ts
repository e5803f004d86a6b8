import { describe, expect, it } from "vitest";
import {
  age,
  count,
  decimalsOf,
  decimalsOfSeries,
  fixed,
  nothing,
  number,
  pathWords,
  percent,
  stateName,
} from "./format";
import { length, seconds, spoken } from "./time/duration";
import { convert } from "./units";

describe("numbers", () => {
  it("have as many decimals as their size deserves", () => {
    expect([9.04567, 90.4567, 904.567, 90456.7, 0.00456, 0, -5.6789].map((v) => number(v))).toEqual([
      "9.046",
      "90.46",
      "904.6",
      "90,457",
      "0.005",
      "0",
      "-5.679",
    ]);
  });
  it("that are none are a dash", () => {
    expect([null, undefined, NaN, Infinity].map((v) => number(v))).toEqual([
      nothing,
      nothing,
      nothing,
      nothing,
    ]);
    expect(percent(null)).toBe(nothing);
  });
  it("below one another have the decimals of their instrument", () => {
    expect([12, 12.5, 12.25, 0.1 + 0.2].map(decimalsOf)).toEqual([0, 1, 2, 3]);
    expect(decimalsOfSeries("a", 9.72)).toBe(2);
    expect(fixed(9.7, decimalsOfSeries("a", 9.7))).toBe("9.70");
    expect(decimalsOfSeries("b", 9.7)).toBe(1);
  });
  it("of other things are written as people do", () => {
    expect(count(1234567)).toBe("1,234,567");
    expect(percent(0.9876)).toBe("98.8 %");
    expect(stateName({ off: 0, on: 1 }, 1)).toBe("on");
    expect(stateName({ off: 0 }, 7)).toBe("7");
    expect(pathWords("stony-beck/raceway-4/water_temp")).toBe("stony-beck, raceway-4, water temp");
    expect(pathWords("stony-beck/raceway-4", "stony-beck")).toBe("raceway-4");
    expect(convert(20, { symbol: "degF", written: "°F", scale: 1.8, offset: 32 })).toBe(68);
    expect(convert(null, { symbol: "", written: "", scale: 1, offset: 0 })).toBeNull();
  });
});

describe("lengths of time", () => {
  it("are read as the service writes them", () => {
    expect(["90s", "15m", "1h", "1d", "1w"].map(seconds)).toEqual([90, 900, 3600, 86_400, 604_800]);
    expect(seconds("soon")).toBeNaN();
    expect(["15m", "1d", "10s", "odd"].map(spoken)).toEqual(["15 min", "1 d", "10 s", "odd"]);
  });
  it("are told in what one can picture", () => {
    expect([38, 600, 12_000, 200_000, 400_000].map((s) => length(s * 1000))).toEqual([
      "38 s",
      "10 min",
      "3 h 20 min",
      "2 d 7 h",
      "4 d 15 h",
    ]);
    expect([5000, 300_000, 9_000_000, 999_000_000].map(age)).toEqual(["5 s", "5 min", "3 h", "12 d"]);
    expect(age(-5)).toBe("0 s");
  });
});

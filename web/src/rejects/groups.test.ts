import { describe, expect, it } from "vitest";
import type { Reject } from "../api/client";
import { groupsOf } from "./groups";

const reject = (id: number, place: string, change: Partial<Reject> = {}): Reject =>
  ({ id, place, source: "lake", rule: "range", replayed_at: null, ...change }) as Reject;

describe("rejects", () => {
  it("that are alike are one group, with the first and the last of them", () => {
    const all = [
      reject(9, "buoy-4/oxygen"),
      reject(8, "buoy-1/oxygen"),
      reject(7, "buoy-4/oxygen"),
      reject(6, "buoy-4/oxygen", { rule: "future" }),
      reject(5, "buoy-4/oxygen", { replayed_at: "2026-11-03T02:00:00Z" }),
      reject(4, "buoy-4/oxygen"),
    ];
    expect(groupsOf(all).map((g) => g.rejects.map((r) => r.id))).toEqual([[9, 7, 4], [8], [6], [5]]);
  });
});

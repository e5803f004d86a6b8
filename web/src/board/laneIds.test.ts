import { describe, expect, it } from "vitest";
import type { BoardLane } from "../api/client";
import { namedLanes, type Named } from "./laneIds";

const lane = (title: string): BoardLane => ({ kind: "chart", title });
const ids = (all: Named[]) => all.map((n) => n.id);

describe("ids of lanes", () => {
  const [a, b, c] = [lane("a"), lane("b"), lane("c")];
  const first = namedLanes([], [a, b, c]);

  it("follow a lane that moves", () => {
    expect(ids(first)).toEqual(["lane-0", "lane-1", "lane-2"]);
    expect(ids(namedLanes(first, [lane("c"), lane("a"), lane("b")]))).toEqual(["lane-2", "lane-0", "lane-1"]);
  });
  it("stay with a lane that changes where it is", () => {
    expect(ids(namedLanes(first, [a, lane("other"), c]))).toEqual(["lane-0", "lane-1", "lane-2"]);
  });
  it("go with a lane that is removed, and are new for one that is added", () => {
    expect(ids(namedLanes(first, [a, c]))).toEqual(["lane-0", "lane-2"]);
    const more = ids(namedLanes(first, [a, lane("new"), b, c]));
    expect(more.filter((id) => id !== "lane-3")).toEqual(["lane-0", "lane-1", "lane-2"]);
    expect(more[1]).toBe("lane-3");
  });
  it("tell lanes that say the same apart", () => {
    const twins = namedLanes([], [a, a, b]);
    expect(new Set(ids(twins)).size).toBe(3);
    expect(ids(namedLanes(twins, [a, a, b]))).toEqual(ids(twins));
    expect(new Set(ids(namedLanes(twins, [b, a, a]))).size).toBe(3);
  });
});

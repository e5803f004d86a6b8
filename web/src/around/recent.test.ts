// @vitest-environment jsdom
import { afterEach, describe, expect, it } from "vitest";
import { notePage, recentPages } from "./recent";

afterEach(() => localStorage.clear());

describe("recent pages", () => {
  it("are eight, the newest first, and each once whatever its range", () => {
    for (let i = 0; i < 12; i++) notePage({ to: `/boards/${i}`, title: `board ${i}` });
    notePage({ to: "/boards/7?last=1w", title: "board 7" });
    const found = recentPages();
    expect(found.map((r) => r.title)).toEqual([7, 11, 10, 9, 8, 6, 5, 4].map((i) => `board ${i}`));
    expect(found[0]?.to).toBe("/boards/7?last=1w");
  });

  it("are none where somebody else wrote something else", () => {
    localStorage.setItem("recent pages", "{");
    expect(recentPages()).toEqual([]);
    localStorage.setItem("recent pages", '{"a":1}');
    expect(recentPages()).toEqual([]);
  });
});

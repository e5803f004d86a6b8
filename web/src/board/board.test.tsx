// @vitest-environment jsdom
import { act, cleanup, renderHook } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter, useLocation } from "react-router";
import { afterEach, describe, expect, it } from "vitest";
import type { SavedBoard, Series } from "../api/client";
import { everywhere, together } from "./AddLane";
import { emptyBoard } from "./board";
import { heightOf, kindFor } from "../lanes/kinds";
import { useDraft } from "./draft";
import { useTime, withTime, zoneOf } from "./useTime";
import { useUndo } from "./useUndo";

afterEach(cleanup);

describe("changes", () => {
  it("can be taken back, and made again until another is made", () => {
    const { result } = renderHook(() => useUndo("a"));
    act(() => result.current.set("b"));
    act(() => result.current.set("c"));
    act(() => result.current.undo());
    expect(result.current).toMatchObject({ value: "b", canUndo: true, canRedo: true });
    act(() => result.current.redo());
    expect(result.current.value).toBe("c");
    act(() => result.current.undo());
    act(() => result.current.set("d"));
    expect(result.current).toMatchObject({ value: "d", canRedo: false });
    act(() => result.current.undo());
    act(() => result.current.undo());
    act(() => result.current.undo()); // there is no more
    expect(result.current).toMatchObject({ value: "a", canUndo: false });
  });

  it("of one field, letter by letter, are one", () => {
    const { result } = renderHook(() => useUndo("a"));
    act(() => result.current.set("b", "title"));
    act(() => result.current.set("bc", "title"));
    act(() => result.current.set("bcd"));
    act(() => result.current.set("e", "title"));
    act(() => result.current.undo());
    expect(result.current.value).toBe("bcd");
    act(() => result.current.undo());
    expect(result.current.value).toBe("bc");
    act(() => result.current.undo());
    expect(result.current).toMatchObject({ value: "a", canUndo: false });
  });

  it("that are not saved outlast the page, and know what they are changes of", () => {
    const found = (version: number) =>
      ({ board: emptyBoard, saved: { id: 7, version, standard: false, about: "" } }) as unknown as SavedBoard;
    const first = renderHook(() => useDraft(found(3)));
    expect(first.result.current.restored).toBeUndefined();
    act(() => first.result.current.keep({ ...emptyBoard, title: "Night" }));
    const second = renderHook(() => useDraft(found(4))); // somebody else saved meanwhile
    expect(second.result.current.restored).toMatchObject({ board: { title: "Night" }, version: 3 });
    act(() => second.result.current.keep({ ...emptyBoard, title: "Nights" }));
    expect(JSON.parse(localStorage.getItem("draft of board 7") ?? "")).toMatchObject({ version: 3 });
    act(() => second.result.current.forget());
    expect(renderHook(() => useDraft(found(4))).result.current.restored).toBeUndefined();
  });
});

describe("lanes", () => {
  const series = (path: string, kind: Series["kind"]) => ({ path, kind }) as Series;
  it("are of the kind that a series wants", () => {
    expect((["gauge", "counter", "state", "bearing"] as const).map((kind) => kindFor({ kind }))).toEqual([
      "chart",
      "growth",
      "states",
      "bearing",
    ]);
    expect(kindFor(undefined)).toBe("chart");
  });
  it("hold together what can be drawn together", () => {
    expect(together([series("a", "gauge"), series("b", "state"), series("c", "gauge")])).toEqual([
      { kind: "chart", series: ["a", "c"] },
      { kind: "states", series: ["b"] },
    ]);
    expect(everywhere(series("s/r4/oxygen", "gauge"))).toEqual({ kind: "chart", series: ["s/+/oxygen"] });
    expect(everywhere(series("s/wing/r4/oxygen", "gauge")).series).toEqual(["s/+/oxygen"]);
  });
  it("are as high as they need, or as somebody made them", () => {
    expect(heightOf({ kind: "states" }, 6)).toBeGreaterThan(heightOf({ kind: "states" }, 1));
    expect(heightOf({ kind: "chart", height: 99 }, 6)).toBe(99);
  });
});

describe("the time of a page", () => {
  const board = {
    ...emptyBoard,
    range: { calendar: "yesterday" },
    compare: "1d" as const,
    hours: "22:00-06:00",
  };
  const at = (address: string) => {
    const around = ({ children }: { children: ReactNode }) => (
      <MemoryRouter initialEntries={[address]}>{children}</MemoryRouter>
    );
    return renderHook(() => ({ time: useTime(board), search: useLocation().search }), { wrapper: around });
  };
  it("is that of the board, unless the address says another", () => {
    expect(at("/boards/1").result.current.time.choice).toMatchObject({
      range: { kind: "calendar", calendar: "yesterday" },
      compare: "1d",
    });
    expect(at("/boards/1?last=6h&compare=").result.current.time.choice).toMatchObject({
      range: { kind: "last", last: "6h" },
      compare: "",
    });
    expect(at("/boards/1?last=nonsense").result.current.time).toMatchObject({
      wrong: expect.stringContaining("nonsense") as string,
    });
  });
  it("goes back the way that zooming went, and nowhere from a bookmark", () => {
    const { result } = at("/boards/1?last=6h");
    expect(result.current.time.zoomBack).toBeUndefined();
    const span = (from: number) => ({ range: { kind: "span" as const, from, to: from + 60_000 } });
    act(() => result.current.time.change(span(1.7e12), true));
    act(() => result.current.time.change(span(1.8e12), true));
    act(() => result.current.time.zoomBack?.());
    expect(result.current.time.choice.range).toMatchObject({ from: 1.7e12 });
    act(() => result.current.time.zoomBack?.());
    expect(result.current.search).toBe("?last=6h");
    expect(result.current.time.zoomBack).toBeUndefined();
  });
  it("can switch off what the board has, and be kept as the board's own", () => {
    const { result } = at("/boards/1");
    act(() =>
      result.current.time.change({
        compare: "",
        hours: "",
        width: "1h",
        range: { kind: "last", last: "3d" },
      }),
    );
    expect(result.current.time.choice).toMatchObject({ compare: "", hours: "", width: "1h" });
    expect(withTime(board, result.current.time.choice)).toMatchObject({
      range: { last: "3d" },
      compare: undefined,
      hours: undefined,
      width: "1h",
    });
  });
  it("is kept with the zone that was chosen, and not with what the viewer prefers", () => {
    const { result } = at("/boards/1");
    expect(result.current.time.choice.zone).toBe("site");
    expect(withTime(board, result.current.time.choice).zone).toBeUndefined();
    act(() => result.current.time.change({ zone: "UTC" }));
    expect(withTime(board, result.current.time.choice).zone).toBe("UTC");
    const own = at("/boards/1").result.current.time.choice;
    expect(withTime({ ...board, zone: "viewer" }, { ...own, said: "viewer" }).zone).toBe("viewer");
  });
  it("is by the clocks of the site, of the viewer, or of a zone", () => {
    expect([zoneOf("", "Europe/Oslo"), zoneOf("site", "Europe/Oslo"), zoneOf("UTC", "Europe/Oslo")]).toEqual([
      "Europe/Oslo",
      "Europe/Oslo",
      "UTC",
    ]);
    expect(zoneOf("viewer", "Europe/Oslo")).toBe(Intl.DateTimeFormat().resolvedOptions().timeZone);
  });
});

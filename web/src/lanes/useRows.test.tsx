// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { act, renderHook, waitFor } from "@testing-library/react";
import type { ReactNode } from "react";
import { beforeEach, describe, expect, it, vi } from "vitest";
import type { BoardLane, Series } from "../api/client";
import type { Range } from "../time/range";
import { useRows } from "./useRows";
import type { View } from "./view";

const series = (path: string) => [path, { path, kind: "gauge", unit: "mg/l", tiers: ["1m"], states: {} }];
const units: View["units"] = (symbol) => ({ symbol: "", written: symbol, scale: 1, offset: 0 });
const catalogue = new Map(["s/a/t", "s/b/t", "s/c/t"].map(series) as [string, Series][]);
const view = (from: string): View => {
  const range: Range = { kind: "span", from: Date.parse(from), to: Date.parse(from) + 3_600_000 };
  const span = { from: range.from, to: range.to, end: range.to };
  return { range, span, zone: "UTC", width: "1m", hours: "", compare: "", catalogue, units } as View;
};
const chart = (...names: string[]): BoardLane => ({ kind: "chart", series: names });

/** What was asked, and how it is answered. */
let asked: { names: string[]; answer: (mean: number) => Promise<void>; refuse: () => void }[] = [];

beforeEach(() => {
  asked = [];
  vi.stubGlobal("fetch", ({ url: address }: Request) => {
    const names = new URL(address).searchParams.getAll("select");
    return new Promise((done) => {
      const answer = (mean: number) =>
        act(async () => {
          const one = (name: string) => ({
            name,
            kind: "gauge",
            unit: "mg/l",
            shift: "",
            values: { mean: [mean] },
            empty: [false],
            open: [false],
            whole: { values: {}, times: {} },
            coverage: 1,
            tier: "1m",
          });
          const body = {
            starts: ["2026-10-24T22:00:00Z"],
            ends: ["2026-10-24T23:00:00Z"],
            width: "1h",
            series: names.toReversed().map(one), // whatever order they come in
          };
          done(new Response(JSON.stringify(body)));
          await Promise.resolve();
        });
      const refuse = () => {
        const error = { code: "unknown_series", message: "no series matches" };
        done(new Response(JSON.stringify({ error }), { status: 404 }));
      };
      asked.push({ names, answer, refuse });
    });
  });
});

function lane(first: BoardLane, range: string) {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  return renderHook((p: { lane: BoardLane; view: View }) => useRows(p.lane, p.view), {
    initialProps: { lane: first, view: view(range) },
    wrapper: ({ children }: { children: ReactNode }) => (
      <QueryClientProvider client={client}>{children}</QueryClientProvider>
    ),
  });
}

describe("the rows of a lane", () => {
  it("come in the order of its names, with one question", async () => {
    const { result } = lane(chart("s/b/t", "s/a/t"), "2026-10-24");
    await waitFor(() => {
      expect(asked).toHaveLength(1);
    });
    expect(asked[0]?.names).toEqual(["s/b/t", "s/a/t"]);
    expect(result.current).toMatchObject({ loading: true, rows: [], stale: false });
    await asked[0]?.answer(1);
    await waitFor(() => {
      expect(result.current.loading).toBe(false);
    });
    expect(result.current.rows.map((r) => r.name)).toEqual(["s/b/t", "s/a/t"]);
  });
  it("are no less of now beside a name that is refused", async () => {
    const { result } = lane(chart("s/a/t", "s/gone/t"), "2026-10-24");
    await waitFor(() => {
      expect(asked).toHaveLength(2);
    });
    await asked[0]?.answer(1);
    await act(async () => {
      asked[1]?.refuse();
      await Promise.resolve();
    });
    await waitFor(() => {
      expect(result.current.errors).toHaveLength(1);
    });
    expect(result.current).toMatchObject({ loading: false, stale: false });
    expect(result.current.rows.map((r) => r.name)).toEqual(["s/a/t"]);
  });
  it("stand until those of another range are here, and say that they are from before", async () => {
    const two = chart("s/a/t", "s/b/t");
    const { result, rerender } = lane(two, "2026-10-24");
    await waitFor(() => {
      expect(asked).toHaveLength(1);
    });
    await asked[0]?.answer(1);
    await waitFor(() => {
      expect(result.current.rows).toHaveLength(2);
    });
    rerender({ lane: two, view: view("2026-10-25") });
    expect(result.current).toMatchObject({ loading: true, stale: true });
    expect(result.current.rows[0]?.values.mean).toEqual([1]);
    await waitFor(() => {
      expect(asked).toHaveLength(2);
    });
    await asked[1]?.answer(2);
    await waitFor(() => {
      expect(result.current.stale).toBe(false);
    });
    expect(result.current.rows.map((r) => r.values.mean)).toEqual([[2], [2]]);

    rerender({ lane: chart("s/b/t", "s/c/t"), view: view("2026-10-25") });
    expect(result.current.rows.map((r) => r.name)).toEqual(["s/b/t"]);
    rerender({ lane: { ...two, kind: "states" }, view: view("2026-10-25") });
    expect(result.current).toMatchObject({ loading: true, rows: [], stale: false });
  });
});

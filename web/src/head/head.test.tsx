// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { act, cleanup, render, screen } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Series, Value } from "../api/client";
import { ViewContext, type View } from "../lanes/view";
import { live } from "../live/store";
import { Head } from "./Head";

class Silent extends EventTarget {
  close() {}
}

beforeEach(() => {
  vi.useFakeTimers({ now: Date.parse("2026-11-03T07:00:00Z") });
  vi.stubGlobal("EventSource", Silent);
  vi.stubGlobal("fetch", () => new Promise(() => undefined));
});
afterEach(() => {
  cleanup();
  live.values.clear();
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

const oxygen = {
  path: "stony-beck/raceway-4/oxygen",
  kind: "gauge",
  unit: "mg/l",
  fresh_for: "90s",
  normal: { inner: [6.5, 12], outer: [5, 14] },
} as unknown as Series;

function shown(value?: Partial<Value>) {
  if (value)
    live.values.set(oxygen.path, { path: oxygen.path, time: "2026-11-03T07:00:00Z", value: 8, ...value });
  const view = {
    catalogue: new Map([[oxygen.path, oxygen]]),
    units: (unit: string) => ({ symbol: "", written: unit, scale: 1, offset: 0 }),
  } as unknown as View;
  render(
    <QueryClientProvider client={new QueryClient()}>
      <ViewContext.Provider value={view}>
        <Head head={[{ series: oxygen.path }]} />
      </ViewContext.Provider>
    </QueryClientProvider>,
  );
  return screen.getByLabelText(oxygen.path).textContent;
}

describe("a present value", () => {
  it("is never zero before it is known", () => {
    expect(shown()).toContain("loading");
    expect(document.body.textContent).not.toContain("0 mg/l");
  });
  it("grows old by the clock, without a word from the stream", async () => {
    expect(shown({})).toContain("normal");
    await act(() => vi.advanceTimersByTimeAsync(100_000));
    expect(screen.getByLabelText(oxygen.path).textContent).toContain("stale, 100 s old");
    await act(() => vi.advanceTimersByTimeAsync(900_000));
    expect(screen.getByLabelText(oxygen.path).textContent).toContain("missing, 17 min old");
  });
  it("says in a word when it is outside of its range", () => {
    expect(shown({ value: 6, standing: "unusual" })).toContain("unusual");
    cleanup();
    expect(shown({ value: 4, standing: "critical" })).toContain("critical");
  });
});

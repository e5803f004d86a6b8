// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render, screen } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, describe, expect, it, vi } from "vitest";
import { bySeries, lastEvening, type Happened } from "./happened";
import { HappenedView } from "./HappenedView";

type One = Happened["excursions"][number];

const one = (change: Partial<One>): One => ({
  path: "stony-beck/raceway-4/oxygen",
  unit: "mg/l",
  from: "2026-11-03T02:00:00Z",
  to: "2026-11-03T02:20:00Z",
  side: "low",
  beyond: "inner",
  limit: 6.5,
  extreme: 5.9,
  extreme_at: "2026-11-03T02:11:00Z",
  over: true,
  width_ms: 60_000,
  ...change,
});

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
  vi.unstubAllGlobals();
});

describe("what happened", () => {
  it("tells the excursions of a series on one side as one, with the furthest value", () => {
    const later = { from: "2026-11-03T04:00:00Z", to: "2026-11-03T04:30:00Z" };
    const found = bySeries([
      one({}),
      one({
        ...later,
        extreme: 3.2,
        extreme_at: "2026-11-03T04:05:00Z",
        beyond: "outer",
        limit: 4,
        over: false,
      }),
      one({ side: "high", extreme: 14, limit: 12 }),
      one({ path: "long-mere/buoy-4/battery", extreme: 11, over: false, from: "2026-11-03T05:00:00Z" }),
    ]);
    expect(found.map((e) => [e.path, e.side, e.times])).toEqual([
      ["stony-beck/raceway-4/oxygen", "low", 2], // beyond the outer range
      ["long-mere/buoy-4/battery", "low", 1], // goes on
      ["stony-beck/raceway-4/oxygen", "high", 1],
    ]);
    expect(found[0]).toMatchObject({
      extreme: 3.2,
      extremeAt: Date.parse("2026-11-03T04:05:00Z"),
      limit: 4,
      from: Date.parse("2026-11-03T02:00:00Z"),
      to: Date.parse("2026-11-03T04:30:00Z"),
      length: 50 * 60_000,
      over: false,
    });
  });

  it("begins at 18:00 of the day before by the clocks of the zone", () => {
    const evening = (now: string, zone: string) => new Date(lastEvening(Date.parse(now), zone)).toISOString();
    expect(evening("2026-11-03T07:00:00Z", "Europe/Oslo")).toBe("2026-11-02T17:00:00.000Z");
    expect(evening("2026-10-25T07:00:00Z", "Europe/Oslo")).toBe("2026-10-24T16:00:00.000Z"); // before the change
    expect(evening("2027-01-01T00:10:00Z", "UTC")).toBe("2026-12-31T18:00:00.000Z");
  });

  const shown = async (happened: Partial<Happened>) => {
    const asked: string[] = [];
    vi.stubGlobal("fetch", ({ url: address }: Request) => {
      asked.push(address);
      const body = address.includes("/excursions")
        ? { from: "", to: "", excursions: [], silent: [], outages: [], rejects: [], ...happened }
        : address.includes("/session")
          ? { role: "viewer", scope: {}, user: "" }
          : { series: [], units: [] };
      return Promise.resolve(new Response(JSON.stringify(body), { status: 200 }));
    });
    render(
      <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
        <MemoryRouter initialEntries={["/?view=happened&from=2026-11-03T00:00:00Z&to=2026-11-03T06:00:00Z"]}>
          <HappenedView />
        </MemoryRouter>
      </QueryClientProvider>,
    );
    await screen.findByText("Outages");
    return { asked, text: document.body.textContent ?? "" };
  };

  it("says of each when, how far, whether it is over, and leads to it", async () => {
    const { asked, text } = await shown({
      excursions: [one({ over: false })],
      silent: [
        {
          path: "stony-beck/raceway-4/ph",
          from: "2026-11-03T01:00:00Z",
          to: "2026-11-03T02:00:00Z",
          over: true,
        },
      ],
      outages: [
        { id: 7, link: "from alder-weir", began: "2026-11-03T03:00:00Z", ended: null, reason: "no answer" },
      ],
    });
    expect(asked.find((a) => a.includes("/excursions"))).toContain("from=2026-11-03T00%3A00%3A00.000Z");
    expect(text).toContain("5.9 mg/l");
    expect(text).toContain("below 6.5 mg/l");
    expect(text).toContain("outside at the end");
    expect(text).toContain("60 min");
    expect(text).toContain("still down");
    const link = screen.getByRole("link", { name: /oxygen/ }).getAttribute("href");
    expect(link).toContain("/trends?series=stony-beck%2Fraceway-4%2Foxygen&from=2026-11-03T01%3A00");
    expect(screen.getByRole("link", { name: /alder-weir/ }).getAttribute("href")).toBe("/links?outage=7");
  });

  it("says that nothing happened, and says nothing of rejects that the viewer may not see", async () => {
    const { text } = await shown({ rejects: null });
    expect(text).toContain("Every series stayed in its normal range.");
    expect(text).toContain("No link was down.");
    expect(text).not.toContain("rejects");
  });
});

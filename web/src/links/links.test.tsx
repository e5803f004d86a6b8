// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { LinkHistory, Outage } from "../api/client";
import { Days } from "./Days";
import { Tree } from "./Tree";
import { Story } from "./Story";
import { linkWords } from "./words";

beforeEach(() => {
  vi.stubGlobal(
    "ResizeObserver",
    class {
      observe() {}
      disconnect() {}
    },
  );
  vi.spyOn(HTMLElement.prototype, "clientWidth", "get").mockReturnValue(600);
});
afterEach(() => {
  vi.restoreAllMocks();
  cleanup();
  vi.unstubAllGlobals();
});

const outage = (change: Partial<Outage> = {}): Outage => ({
  id: 3,
  began: "2026-11-03T02:10:00Z",
  ended: "2026-11-03T02:48:00Z",
  reason: "the other end closed the connection",
  waited: 900,
  oldest: "2026-11-03T02:10:20Z",
  caught_up: "2026-11-03T02:48:30Z",
  longest_ms: 2_290_000,
  ...change,
});

const now = Date.parse("2026-11-03T04:00:00Z");

function told(link: string, change: Partial<Outage> = {}): string {
  render(
    <MemoryRouter>
      <Story outage={outage(change)} link={link} zone="Europe/Oslo" now={now} onClose={() => undefined} />
    </MemoryRouter>,
  );
  return document.querySelector("[data-story]")?.textContent ?? "";
}

describe("an outage", () => {
  it("tells since when, why, how much waited, when the last of it arrived, and what was late", () => {
    const story = told("from stony-beck");
    expect(story).toContain("link from stony-beck went down: the other end closed the connection.");
    expect(story).toContain("up again, after 38 min");
    expect(story).toContain("about 900 summaries that had waited arrived; it had caught up in 30 s");
    expect(story).toContain("was late, at most by 38 min");
    expect(story).toContain("03:10"); // by the clocks of Oslo
    const around = screen.getByRole("link").getAttribute("href") ?? "";
    expect(around).toContain("about=stony-beck");
    expect(around).toContain("from=2026-11-03T01%3A10");
  });
  it("that goes on says so, and claims nothing that is not known", () => {
    const story = told("to head-office", { ended: null, caught_up: null, longest_ms: 0 });
    expect(story).toContain("It is still down, for 110 min");
    expect(story).toContain("not all have arrived");
    expect(story).not.toContain("at most by");
    expect(told("to head-office", { ended: null, caught_up: null, waited: 0, oldest: null })).toBeTruthy();
  });
  it("is told in the order of time, also of what was made just before and had to wait", () => {
    const steps = told("from stony-beck", { oldest: "2026-11-03T02:09:58Z" });
    expect(steps.indexOf("had to wait was made")).toBeLessThan(steps.indexOf("went down"));
    expect(steps.indexOf("went down")).toBeLessThan(steps.indexOf("up again"));
  });
  it("in which nothing waited made nothing late", () => {
    expect(told("from stony-beck", { waited: 0, oldest: null, caught_up: null, longest_ms: 0 })).toContain(
      "nothing was late",
    );
  });
  it("of a source is no backlog", () => {
    const story = told("source probes", { waited: 0, oldest: null, caught_up: null, longest_ms: 0 });
    expect(story).toContain("source probes went down");
    expect(story).toContain("show as gaps");
  });
  it("has a link with a name that people say", () => {
    expect(["to head-office", "from stony-beck", "source the probes"].map(linkWords)).toEqual([
      "link to head-office",
      "link from stony-beck",
      "source the probes",
    ]);
  });
});

describe("thirty days of a link", () => {
  const history: LinkHistory = {
    from: "2026-10-04T00:00:00Z",
    to: "2026-11-03T00:00:00Z",
    ran: [{ from: "2026-10-19T00:00:00Z", to: "2026-11-03T00:00:00Z" }],
    links: [
      {
        link: "to head-office",
        outages: [
          outage({ id: 1, began: "2026-10-24T00:00:00Z", ended: "2026-10-27T00:00:00Z" }),
          outage({ id: 2, began: "2026-11-02T12:00:00Z", ended: null }),
        ],
        waiting: [
          { at: "2026-10-24T00:00:00Z", rows: 10 },
          { at: "2026-10-25T00:00:00Z", rows: 1200 },
          { at: "2026-10-27T00:00:00Z", rows: 0 },
        ],
      },
    ],
  };
  it("are a strip of up, down and not known, with what waited below", () => {
    const opened = vi.fn();
    const link = history.links[0];
    if (!link) throw new Error("there is one");
    const { container } = render(<Days history={history} link={link} zone="UTC" onOpen={opened} />);
    expect(screen.getByRole("img").getAttribute("aria-label")).toBe(
      "to head-office: 2 outages in 30 d, at most 1,200 summaries waited",
    );
    const rects = [...container.querySelectorAll("rect")];
    const ran = rects.find((r) => r.getAttribute("fill") === "var(--water)");
    expect(Number(ran?.getAttribute("x"))).toBe(300); // half of 600: before it, nothing is known
    const down = rects.filter((r) => r.getAttribute("fill") === "url(#hatch)");
    expect(down.map((r) => Math.round(Number(r.getAttribute("x"))))).toEqual([400, 590]);
    expect(down.map((r) => Math.round(Number(r.getAttribute("width"))))).toEqual([60, 10]);
    fireEvent.click(screen.getAllByRole("button")[1] as Element);
    expect(opened.mock.calls[0]?.[0]).toMatchObject({ id: 2 });
  });
});

describe("who sends to whom", () => {
  it("is a list from the highest central down to the last gateway, each with its state", () => {
    const below = [
      { name: "plant", up: true, below: [{ name: "stony-beck", up: false, below: [] }] },
      { name: "long-mere", up: true, below: [] },
    ];
    const { container } = render(<Tree above={["company"]} below={below} />);
    const nested = (list: Element | null): unknown[] =>
      [...(list?.children ?? [])].map((li) => {
        const inner = li.querySelector(":scope > ul");
        const own = [...li.childNodes].filter((n) => n !== inner).map((n) => n.textContent);
        return [own.join("").trim(), ...(inner ? [nested(inner)] : [])];
      });
    expect(nested(container.querySelector("ul"))).toEqual([
      ["company", [["this service", [["plant up", [["stony-beck down"]]], ["long-mere up"]]]]],
    ]);
  });
});

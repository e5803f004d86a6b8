// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { act, cleanup, fireEvent, render, screen } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter, useLocation } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Session } from "../api/client";
import { Unreachable } from "../api/client";
import { ErrorBoundary } from "./ErrorBoundary";
import { helpOf } from "./helpTexts";
import { NoConnection } from "./NoConnection";
import Palette from "./Palette";
import PreferencesDialog from "./PreferencesDialog";

const session = { role: "engineer", whole: true } as Session;

beforeEach(() => {
  Element.prototype.scrollIntoView = vi.fn();
});

afterEach(() => {
  cleanup();
  vi.useRealTimers();
  localStorage.clear();
});

function known(data: [key: unknown[], value: unknown][]): QueryClient {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false, staleTime: Infinity } } });
  for (const [key, value] of data) client.setQueryData(key, value);
  return client;
}

function Where() {
  const { pathname, search } = useLocation();
  return <p data-testid="where">{pathname + search}</p>;
}

const within = (client: QueryClient, children: ReactNode) =>
  render(
    <QueryClientProvider client={client}>
      <MemoryRouter>
        {children}
        <Where />
      </MemoryRouter>
    </QueryClientProvider>,
  );

describe("the palette", () => {
  const client = () =>
    known([
      [
        ["series"],
        { series: [{ path: "s/r1/oxygen" }, { path: "s/r1/oxygen/quality" }, { path: "s/r2/oxygen" }] },
      ],
      [
        ["boards", ""],
        {
          boards: [
            { id: 7, title: "Night", about: "", standard: false },
            { id: 0, title: "s, r1", about: "s/r1", standard: true },
          ],
        },
      ],
    ]);
  const pages = [
    { at: "/trends", name: "Trends", show: () => null },
    { at: "/boards/:board", name: "Board", hidden: true, show: () => null },
  ];
  const options = () => screen.getAllByRole("option").map((o) => o.textContent);
  it("finds by some of the letters, and goes there with the keyboard", () => {
    const close = vi.fn();
    within(client(), <Palette session={session} pages={pages} onClose={close} />);
    const field = screen.getByRole("combobox");
    fireEvent.change(field, { target: { value: "oxy R" } });
    expect(options()).toEqual(["s/r1/oxygenseries", "s/r2/oxygenseries"]);
    expect(field.getAttribute("aria-activedescendant")).toBe("palette-0");
    fireEvent.keyDown(field, { key: "ArrowDown" });
    fireEvent.keyDown(field, { key: "ArrowDown" }); // there is no more
    expect(field.getAttribute("aria-activedescendant")).toBe("palette-1");
    fireEvent.keyDown(field, { key: "Enter" });
    expect(close).toHaveBeenCalledOnce();
    expect(screen.getByTestId("where").textContent).toBe("/series?path=s%2Fr2%2Foxygen");
  });
  it("knows boards by their number, and those of places by these; pages that need a number it leaves out", () => {
    within(client(), <Palette session={session} pages={pages} onClose={() => undefined} />);
    expect(options().join()).not.toContain("Boardpage");
    fireEvent.change(screen.getByRole("combobox"), { target: { value: "board s, r1" } });
    fireEvent.click(screen.getByRole("option"));
    expect(screen.getByTestId("where").textContent).toBe("/boards/place?about=s%2Fr1");
  });
  it("says so when nothing contains that", () => {
    within(client(), <Palette session={session} pages={pages} onClose={() => undefined} />);
    fireEvent.change(screen.getByRole("combobox"), { target: { value: "zzz" } });
    expect(document.body.textContent).toContain("Nothing contains that");
  });
});

describe("units and clocks", () => {
  it("are kept in the browser, and set back to what is stored", () => {
    const client = known([
      [
        ["units"],
        {
          units: [
            { symbol: "Cel", written: "°C", to: [{ symbol: "degF", written: "°F", scale: 1.8, offset: 32 }] },
          ],
        },
      ],
    ]);
    within(client, <PreferencesDialog onClose={() => undefined} />);
    const unit = screen.getByLabelText("Instead of °C");
    fireEvent.change(unit, { target: { value: "degF" } });
    fireEvent.change(screen.getByLabelText("Clocks of"), { target: { value: "UTC" } });
    expect(JSON.parse(localStorage.getItem("preferences") ?? "")).toEqual({
      zone: "UTC",
      units: { Cel: "degF" },
    });
    fireEvent.change(unit, { target: { value: "" } });
    expect(JSON.parse(localStorage.getItem("preferences") ?? "").units).toEqual({});
  });
});

describe("a page that fails", () => {
  function Broken(): ReactNode {
    throw new Error("a lane has no axis");
  }
  it("says so, and the rest stays", () => {
    vi.spyOn(console, "error").mockImplementation(() => undefined);
    render(
      <>
        <p>the head</p>
        <ErrorBoundary>
          <Broken />
        </ErrorBoundary>
      </>,
    );
    expect(screen.getByRole("alert").textContent).toContain("a lane has no axis");
    expect(document.body.textContent).toContain("the head");
    expect(screen.getByText("Try again")).toBeTruthy();
    vi.restoreAllMocks();
  });
  it("because the console was renewed is loaded anew", () => {
    vi.spyOn(console, "error").mockImplementation(() => undefined);
    const Old = (): ReactNode => {
      throw new TypeError("Failed to fetch dynamically imported module: /assets/x.js");
    };
    render(
      <ErrorBoundary>
        <Old />
      </ErrorBoundary>,
    );
    expect(screen.getByRole("alert").textContent).toContain("The console was renewed");
    expect(screen.queryByText("Try again")).toBeNull();
    vi.restoreAllMocks();
  });
});

describe("no connection", () => {
  it("is said in one place after a moment, with since when, and goes by itself", async () => {
    vi.useFakeTimers({ shouldAdvanceTime: true });
    let away = true;
    vi.stubGlobal("fetch", () =>
      away ? Promise.reject(new TypeError("x")) : Promise.resolve(new Response("{}")),
    );
    const client = new QueryClient({
      defaultOptions: { queries: { retry: (_, e) => e instanceof Unreachable, retryDelay: 100 } },
    });
    within(client, <NoConnection />);
    await act(() => vi.advanceTimersByTimeAsync(500));
    expect(document.querySelector("[data-away]")).toBeNull(); // a blink
    await act(() => vi.advanceTimersByTimeAsync(3000));
    expect(screen.getByRole("alert").textContent).toContain("No connection to the service");
    away = false;
    await act(() => vi.advanceTimersByTimeAsync(2000));
    expect(document.querySelector("[data-away]")).toBeNull();
    vi.unstubAllGlobals();
  });
});

describe("help", () => {
  it("is there for every page", () => {
    for (const path of [
      "/",
      "/trends",
      "/boards",
      "/boards/7",
      "/series",
      "/links",
      "/rejects",
      "/notes",
      "/field",
    ])
      expect(helpOf(path).says.join(" ").length, path).toBeGreaterThan(40);
    expect(helpOf("/boards/7").keys.length).toBeGreaterThan(helpOf("/trends").keys.length);
    expect(helpOf("/elsewhere").title).toBe("the console");
  });
});

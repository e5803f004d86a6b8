// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { localText, readLocal } from "../time/local";
import { RangeBar, rangeName, type TimeChoice } from "./RangeBar";

beforeEach(() => {
  vi.stubGlobal(
    "ResizeObserver",
    class {
      observe() {}
      unobserve() {}
      disconnect() {}
    },
  );
});
afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const zone = "Europe/Oslo";
const from = Date.parse("2026-10-24T22:00:00Z");
const to = Date.parse("2026-10-25T23:00:00Z"); // a day of 25 hours
const span = { from, to, end: to };

function shown(choice: Partial<TimeChoice> = {}, back?: () => void) {
  const changed = vi.fn<(choice: Partial<TimeChoice>) => void>();
  const all: TimeChoice = {
    range: { kind: "span", from, to },
    zone: "site",
    width: "",
    hours: "",
    compare: "",
    ...choice,
  };
  render(
    <RangeBar
      choice={all}
      span={span}
      zone={zone}
      siteZone={zone}
      width="5m"
      onChange={changed}
      onBack={back}
    />,
  );
  return changed;
}

describe("the bar of time", () => {
  it("says whose clocks the page goes by", () => {
    const bar = (differ: boolean) => (
      <RangeBar
        choice={{ range: { kind: "span", from, to }, zone: "site", width: "", hours: "", compare: "" }}
        span={span}
        zone={zone}
        siteZone={zone}
        sitesDiffer={differ}
        width="5m"
        onChange={() => undefined}
      />
    );
    const { rerender } = render(bar(false));
    expect(screen.getAllByText("the site: Europe/Oslo, UTC+01:00")).not.toHaveLength(0);
    rerender(bar(true));
    expect(screen.getAllByText("the service: Europe/Oslo, UTC+01:00")).not.toHaveLength(0);
  });
  it("goes to the range before and after, a day of the calendar, and out", () => {
    const changed = shown();
    fireEvent.click(screen.getByLabelText("Earlier"));
    expect(changed).toHaveBeenLastCalledWith({
      range: { kind: "span", from: from - 24 * 3_600_000, to: from },
    });
    fireEvent.click(screen.getByLabelText("Zoom out"));
    const out = changed.mock.lastCall?.[0].range;
    expect(out).toMatchObject({ kind: "span" });
    if (out?.kind === "span") expect(out.to - out.from).toBe(2 * (to - from));
  });
  it("has a way back only where one came from", () => {
    shown();
    expect(screen.queryByText("Zoom back")).toBeNull();
    cleanup();
    const back = vi.fn();
    shown({}, back);
    fireEvent.click(screen.getByText("Zoom back"));
    expect(back).toHaveBeenCalledOnce();
  });
  it("says that it follows only where it does", () => {
    shown({ range: { kind: "last", last: "6h" } });
    expect(document.querySelector("[data-follows]")).toBeTruthy();
    cleanup();
    shown({ range: { kind: "calendar", calendar: "last week" } });
    expect(document.querySelector("[data-follows]")).toBeNull();
  });
  it("changes widths, what is beside, and clocks", () => {
    const changed = shown();
    const choose = (label: string, value: string) =>
      fireEvent.change(screen.getAllByLabelText(label)[0] as Element, { target: { value } });
    choose("Windows", "1h");
    choose("Compare with", "1w");
    choose("Clocks of", "UTC");
    expect(changed.mock.calls.map(([c]) => c)).toEqual([{ width: "1h" }, { compare: "1w" }, { zone: "UTC" }]);
    expect(screen.getAllByText("windows that fit: 5 min").length).toBeGreaterThan(0);
  });
  it("takes a range of the calendar, or a new span with the hours that count", () => {
    const changed = shown();
    fireEvent.click(screen.getByText(/▾/));
    fireEvent.click(screen.getByText("last month"));
    expect(changed).toHaveBeenLastCalledWith({ range: { kind: "calendar", calendar: "last month" } });
    fireEvent.click(screen.getByText(/▾/));
    const hours = document.querySelector<HTMLInputElement>("[name=hours]") as HTMLInputElement;
    const begin = document.querySelector<HTMLInputElement>("[name=from]") as HTMLInputElement;
    expect(begin.value).toMatch(/^2026-10-25T00:00/); // by the clocks that are shown
    fireEvent.change(hours, { target: { value: "night" } });
    expect(document.body.textContent).toContain("Hours are written like 22:00-06:00");
    fireEvent.change(hours, { target: { value: "22:00-06:00" } });
    fireEvent.change(begin, { target: { value: "2026-10-27T00:00:00" } });
    expect(document.body.textContent).toContain("The second time has to be later");
    fireEvent.change(begin, { target: { value: "2026-10-25T12:00:00" } });
    fireEvent.submit(hours.form as HTMLFormElement);
    expect(changed).toHaveBeenLastCalledWith({
      hours: "22:00-06:00",
      range: { kind: "span", from: Date.parse("2026-10-25T11:00:00Z"), to },
    });
  });
});

describe("ranges", () => {
  it("are called as people would", () => {
    expect(rangeName({ kind: "last", last: "1w" }, span, zone)).toBe("past week");
    expect(rangeName({ kind: "last", last: "6h" }, span, zone)).toBe("past 6 h");
    expect(rangeName({ kind: "calendar", calendar: "yesterday" }, span, zone)).toBe("yesterday");
    expect(rangeName({ kind: "span", from, to }, span, zone)).toMatch(/Oct 25, 2026, 00:00 to 00:00/);
  });
});

describe("times of a form", () => {
  it("come back as they went, but for an hour that the clocks show twice", () => {
    for (const at of [from, to, Date.parse("2026-07-01T11:22:33Z")])
      expect(readLocal(localText(at, zone), zone)).toBe(at);
    const second = Date.parse("2026-10-25T01:30:00Z"); // 02:30 for the second time
    expect(readLocal(localText(second, zone), zone)).toBe(second - 3_600_000);
    expect(readLocal("", zone)).toBeNaN();
  });
});

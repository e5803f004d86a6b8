// @vitest-environment jsdom
import { act, cleanup, render, screen } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { ask } from "../api/client";
import { heardClock, serviceNow } from "../time/clock";
import { WrongClock } from "./WrongClock";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
  heardClock(Date.now());
});

describe("a device whose clock is wrong", () => {
  it("says by how much, and pages follow the service", () => {
    render(<WrongClock />);
    expect(screen.queryByRole("status")).toBeNull();
    act(() => heardClock(Date.now() + 10 * 60_000));
    expect(screen.getByRole("status").textContent).toContain("10 min behind the service");
    expect(serviceNow() - Date.now()).toBeCloseTo(600_000, -3);
    act(() => heardClock(Date.now() - 3 * 3_600_000));
    expect(screen.getByRole("status").textContent).toContain("3 h ahead of the service");
    act(() => heardClock(Date.now() - 30_000));
    expect(screen.queryByRole("status")).toBeNull();
  });

  it("learns the time from an answer's date, but not what its seconds cannot say", async () => {
    const answered = (ms: number) => {
      const answer = Response.json({}, { headers: { date: new Date(ms).toUTCString() } });
      Object.defineProperty(answer, "url", { value: "http://gate/api/v1/health" });
      vi.stubGlobal("fetch", () => Promise.resolve(answer));
      return ask("health");
    };
    await answered(Date.now() + 86_400_000);
    expect(serviceNow() - Date.now()).toBeGreaterThan(86_398_000);
    heardClock(Date.now() + 700);
    await answered(Date.now());
    expect(serviceNow() - Date.now()).toBeCloseTo(700, -2);
  });
});

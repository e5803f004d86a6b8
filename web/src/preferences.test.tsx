// @vitest-environment jsdom
import { act, cleanup, renderHook } from "@testing-library/react";
import { afterEach, expect, it } from "vitest";
import { prefer, usePreferences } from "./preferences";

afterEach(() => {
  cleanup();
  localStorage.clear();
});

it("shares preferences with other tabs", () => {
  const { result } = renderHook(() => usePreferences());
  act(() => prefer({ zone: "UTC" }));
  expect(result.current.zone).toBe("UTC");
  // Another tab writes, of which the browser tells this one.
  localStorage.setItem("preferences", JSON.stringify({ zone: "viewer", units: { Cel: "degF" } }));
  act(() => void dispatchEvent(new StorageEvent("storage", { key: "preferences" })));
  expect(result.current).toEqual({ zone: "viewer", units: { Cel: "degF" } });
  localStorage.setItem("theme", "dark");
  act(() => void dispatchEvent(new StorageEvent("storage", { key: "theme" })));
  expect(result.current.zone).toBe("viewer");
});

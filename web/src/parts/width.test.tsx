// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import { useWidth } from "./useWidth";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

function Page({ ready }: { ready: boolean }) {
  const [box, wide] = useWidth();
  return ready ? <div ref={box}>{wide} px</div> : null;
}

it("measures an element that comes late", () => {
  vi.stubGlobal("matchMedia", () => ({ matches: false, addEventListener() {}, removeEventListener() {} }));
  vi.stubGlobal(
    "ResizeObserver",
    class {
      observe() {}
      disconnect() {}
    },
  );
  vi.spyOn(HTMLElement.prototype, "clientWidth", "get").mockReturnValue(640);
  const { rerender } = render(<Page ready={false} />);
  rerender(<Page ready={false} />);
  rerender(<Page ready />);
  expect(screen.getByText("640 px")).toBeTruthy();
});

// @vitest-environment jsdom
import { coloursChanged } from "../signal";
import { act, cleanup, render } from "@testing-library/react";
import { afterEach, beforeAll, expect, it, vi } from "vitest";
import { usePaper, watchPaper } from "./paper";
import { useWidth } from "./useWidth";

beforeAll(watchPaper);
afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
  vi.restoreAllMocks();
});

function Place() {
  const paper = usePaper();
  const [box, wide] = useWidth();
  return <div ref={box} data-is={`${paper ? "paper" : "screen"} ${wide}`} />;
}

it("is measured and drawn anew before the browser lays out the paper, and after it", () => {
  vi.stubGlobal(
    "ResizeObserver",
    class {
      observe() {}
      disconnect() {}
    },
  );
  const root = document.documentElement;
  root.dataset.theme = "dark";
  vi.spyOn(HTMLElement.prototype, "clientWidth", "get").mockImplementation(() =>
    root.hasAttribute("data-paper") ? 704 : 1248,
  );
  const redrawn = vi.fn();
  const stop = coloursChanged.listen(redrawn);
  const { container } = render(<Place />);
  const is = () => (container.firstChild as HTMLElement).dataset.is;
  expect(is()).toBe("screen 1248");
  act(() => void dispatchEvent(new Event("beforeprint")));
  expect([is(), root.dataset.theme]).toEqual(["paper 704", "light"]);
  act(() => void dispatchEvent(new Event("beforeprint"))); // some browsers say it twice
  act(() => void dispatchEvent(new Event("afterprint")));
  expect([is(), root.dataset.theme]).toEqual(["screen 1248", "dark"]);
  expect(redrawn).toHaveBeenCalledTimes(2);
  stop();
});

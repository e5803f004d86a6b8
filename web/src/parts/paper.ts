import { useSyncExternalStore } from "react";
import { flushSync } from "react-dom";
import { coloursChanged } from "../signal";

/* A page that goes on paper is another one: as wide as the paper, in light colours, with everything
 * that is otherwise drawn only in sight. The browser lays it out right after it has said so. */

const notices = new Set<() => void>();
let paper = false;
let theme: string | undefined;

function turn(to: boolean) {
  if (paper === to) return;
  paper = to;
  const root = document.documentElement;
  if (to) theme = root.dataset.theme;
  root.dataset.theme = to ? "light" : theme;
  root.toggleAttribute("data-paper", to);
  flushSync(() => {
    notices.forEach((notice) => notice());
    coloursChanged.tell();
  });
}

/** Turns the page when it is printed. */
export function watchPaper() {
  addEventListener("beforeprint", () => turn(true));
  addEventListener("afterprint", () => turn(false));
}

function subscribe(notice: () => void) {
  notices.add(notice);
  return () => notices.delete(notice);
}

/** Whether the page goes on paper now. */
export function usePaper(): boolean {
  return useSyncExternalStore(subscribe, () => paper);
}

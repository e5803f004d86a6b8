import { useSyncExternalStore } from "react";

/* The cursor and the span that is being picked are the page's. They move with the mouse, so
   they are kept outside of React, and only what shows them is drawn anew. */

class Pointed {
  at: number | null = null; // ms since 1970
  picking: [number, number] | null = null;
  private notices = new Set<() => void>();
  private due = false;

  set(at: number | null) {
    if (this.at === at) return;
    this.at = at;
    this.tell();
  }

  pick(span: [number, number] | null) {
    this.picking = span;
    this.tell();
  }

  readonly subscribe = (notice: () => void) => {
    this.notices.add(notice);
    return () => this.notices.delete(notice);
  };

  /** Once for each picture that the browser draws. */
  private tell() {
    if (this.due) return;
    this.due = true;
    requestAnimationFrame(() => {
      this.due = false;
      this.notices.forEach((notice) => notice());
    });
  }
}

export const pointed = new Pointed();

/** Where the cursor stands, null when it is nowhere. */
export function useCursor(): number | null {
  return useSyncExternalStore(pointed.subscribe, () => pointed.at);
}

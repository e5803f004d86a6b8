/* Where the focus goes when a dialog closes: to what had it last outside of menus and dialogs. A dialog opened from a
   menu cannot remember it by itself, as the menu's item is gone by then. */

const inFront = "[role=menu], [role=dialog], [role=alertdialog]";

let last: HTMLElement | null = null;

/** Notes what has the focus, until the returned function is called. */
export function watchFocus(): () => void {
  const note = (e: FocusEvent) => {
    const element = e.target as HTMLElement;
    if (!element.closest(inFront)) last = element;
  };
  document.addEventListener("focusin", note);
  return () => document.removeEventListener("focusin", note);
}

/** Focuses what had the focus before a dialog opened, or the page if that is gone. */
export function restoreFocus() {
  const target = last?.isConnected ? last : document.getElementById("main");
  target?.focus();
}

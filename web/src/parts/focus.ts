/* Where the focus goes when a dialog closes: to what had it last outside of menus and dialogs. A dialog opened from a
   menu cannot remember it by itself, as the menu's item is gone by then. */

const inFront = "[role=menu], [role=dialog], [role=alertdialog]";

let last: HTMLElement | null = null;

document.addEventListener("focusin", (e) => {
  const element = e.target as HTMLElement;
  if (!element.closest(inFront)) last = element;
});

/** Focuses what had the focus before a dialog opened, or the page if that is gone. */
export function restoreFocus() {
  const target = last?.isConnected ? last : document.getElementById("main");
  target?.focus();
}

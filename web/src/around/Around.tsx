import { lazy, Suspense, useEffect, useState } from "react";
import type { Session } from "../api/client";
import type { Page } from "../routes";
import { aroundOpened, type Around as What } from "./open";

const Palette = lazy(() => import("./Palette"));
const Help = lazy(() => import("./Help"));
const PreferencesDialog = lazy(() => import("./PreferencesDialog"));

/** What is the same on every page: the palette behind Ctrl K, help behind ?, units and clocks. */
export function Around({ session, pages }: { session: Session; pages: Page[] }) {
  const [open, setOpen] = useState<What | null>(null);
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "k") {
        e.preventDefault();
        setOpen((o) => (o === "palette" ? null : "palette"));
      } else if (e.key === "?" && !writes(e.target)) {
        e.preventDefault();
        setOpen("help");
      }
    };
    const stop = aroundOpened.listen(setOpen);
    addEventListener("keydown", key);
    return () => {
      stop();
      removeEventListener("keydown", key);
    };
  }, []);
  const close = () => setOpen(null);
  return (
    <Suspense>
      {open === "palette" && <Palette session={session} pages={pages} onClose={close} />}
      {open === "help" && <Help onClose={close} />}
      {open === "preferences" && <PreferencesDialog onClose={close} />}
    </Suspense>
  );
}

/** Whether somebody writes there. */
function writes(target: EventTarget | null): boolean {
  return (
    target instanceof HTMLElement &&
    (target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName))
  );
}

import { useSyncExternalStore } from "react";
import { signal } from "./signal";

/** What a viewer likes, kept in the browser. */
export interface Preferences {
  /** The zone whose clocks are shown: the site's, the viewer's, or one by its IANA name. */
  zone: string;
  /** Instead of a unit another, such as degF for Cel. */
  units: Record<string, string>;
}

const key = "preferences";
const usual: Preferences = { zone: "site", units: {} };
const changed = signal();

let current = read();

function read(): Preferences {
  try {
    const kept = JSON.parse(localStorage.getItem(key) ?? "{}") as Partial<Preferences>;
    return { ...usual, ...kept };
  } catch {
    return usual; // what somebody else wrote there
  }
}

export function prefer(change: Partial<Preferences>) {
  current = { ...current, ...change };
  localStorage.setItem(key, JSON.stringify(current));
  changed.tell();
}

function subscribe(notice: () => void) {
  const elsewhere = (e: StorageEvent) => {
    if (e.key !== key && e.key !== null) return;
    current = read();
    notice();
  };
  const stop = changed.listen(notice);
  addEventListener("storage", elsewhere); // of other tabs
  return () => {
    stop();
    removeEventListener("storage", elsewhere);
  };
}

export function usePreferences(): Preferences {
  return useSyncExternalStore(subscribe, () => current);
}

import { useEffect } from "react";

/** Keeps the screen from going dark, where the browser allows it. */
export function useAwake() {
  useEffect(() => {
    let lock: WakeLockSentinel | undefined;
    let over = false;
    const keepAwake = async () => {
      try {
        lock = await navigator.wakeLock?.request("screen");
        if (over) await lock?.release();
      } catch {
        // The machine does not allow it: the screen goes dark as its own settings say.
      }
    };
    void keepAwake();
    return () => {
      over = true;
      void lock?.release();
    };
  }, []);
}

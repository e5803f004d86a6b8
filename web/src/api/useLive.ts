import { useEffect, useState } from "react";
import type { Now, Value } from "./client";

export interface Live {
  values: Map<string, Value>;
  /** How far the service's clock is ahead of this machine's, in ms. */
  ahead: number;
  connected: boolean;
}

/** The latest values, kept up to date by the service's stream. */
export function useLive(): Live {
  const [live, setLive] = useState<Live>({ values: new Map(), ahead: 0, connected: false });
  useEffect(() => {
    const stream = new EventSource("/api/v1/stream");
    stream.addEventListener("now", (event: MessageEvent<string>) => {
      const now = JSON.parse(event.data) as Now;
      setLive((before) => {
        const values = new Map(before.values);
        for (const v of now.values) values.set(v.path, v);
        return { values, ahead: Date.parse(now.at) - Date.now(), connected: true };
      });
    });
    // The browser connects again by itself; until then what is shown grows old.
    stream.onerror = () => {
      setLive((before) => ({ ...before, connected: false }));
      if (stream.readyState === EventSource.CLOSED) dispatchEvent(new Event("loggedout")); // it was refused
    };
    return () => stream.close();
  }, []);
  return live;
}

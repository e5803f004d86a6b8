import { useEffect, useState } from "react";
import type { Watched } from "./client";

export interface Watch {
  now?: Watched;
  failed?: string;
}

/** What is published at a place, from when it is set until it is not; nothing without one. */
export function useWatch(place: { source?: string; address?: string } | null): Watch {
  const [seen, setSeen] = useState<{ of: string; watch: Watch }>({ of: "", watch: {} });
  const query = place ? new URLSearchParams(place as Record<string, string>).toString() : "";
  useEffect(() => {
    if (!query) return;
    const stream = new EventSource(`/api/v1/field/watch?${query}`);
    const note = (watch: Watch) => setSeen((before) => ({ of: query, watch: { ...before.watch, ...watch } }));
    stream.addEventListener("watched", (event: MessageEvent<string>) =>
      setSeen({ of: query, watch: { now: JSON.parse(event.data) as Watched } }),
    );
    stream.addEventListener("failed", (event: MessageEvent<string>) => {
      note({ failed: (JSON.parse(event.data) as { message: string }).message });
      stream.close();
    });
    stream.onerror = () => {
      stream.close();
      // A stream says nothing of why it was refused; the same call does.
      fetch(`/api/v1/field/watch?${query}`, { signal: AbortSignal.timeout(3000) })
        .then((answer) => (answer.ok ? null : answer.json()))
        .then((said: { error?: { message?: string } } | null) =>
          note({ failed: said?.error?.message ?? "The connection to the service was lost." }),
        )
        .catch(() => note({ failed: "The connection to the service was lost." }));
    };
    return () => stream.close();
  }, [query]);
  return query && seen.of === query ? seen.watch : {};
}

import { useEffect, useState } from "react";
import { Unreachable } from "../api/client";
import { useHealth, useSession } from "../api/hooks";
import { live } from "../live/store";
import { shortTime } from "../time/format";
import { viewerZone } from "../time/zone";

/** Says that the service is away, since when, and that it is tried again; in one place for all pages. */
export function NoConnection() {
  const session = useSession();
  const health = useHealth();
  const away = [session, health].some((q) => q.failureReason instanceof Unreachable);
  const answered = Math.max(session.dataUpdatedAt, health.dataUpdatedAt, live.heard);
  const [shown, setShown] = useState(false);
  useEffect(() => {
    if (!away) return;
    const timer = setTimeout(() => setShown(true), 1500); // a blink is not worth a word
    return () => {
      clearTimeout(timer);
      setShown(false);
    };
  }, [away]);
  return (
    <div role="alert" aria-live="assertive">
      {away && shown && (
        <p className="mt-3 rounded-sheet bg-bad-wash px-3 py-2 text-bad" data-away>
          No connection to the service
          {answered > 0 && `; what is shown is from ${shortTime(answered, viewerZone(), { from: 0, to: 1 })}`}
          . It is tried again by itself.
        </p>
      )}
    </div>
  );
}

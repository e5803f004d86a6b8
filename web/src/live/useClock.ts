import { useEffect, useState } from "react";
import { live } from "./store";

/** The service's time in ms since 1970, every so many ms. */
export function useClock(every = 1000): number {
  const [now, setNow] = useState(() => Date.now() + live.ahead);
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now() + live.ahead), every);
    return () => clearInterval(timer);
  }, [every]);
  return now;
}

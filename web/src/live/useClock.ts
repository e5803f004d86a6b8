import { useEffect, useState } from "react";
import { serviceNow } from "../time/clock";

/** The service's time in ms since 1970, every so many ms. */
export function useClock(every = 1000): number {
  const [now, setNow] = useState(() => serviceNow());
  useEffect(() => {
    const timer = setInterval(() => setNow(serviceNow()), every);
    return () => clearInterval(timer);
  }, [every]);
  return now;
}

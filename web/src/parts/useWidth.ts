import { useLayoutEffect, useRef, useState, type RefObject } from "react";

/** How wide an element is, in px, as it changes. */
export function useWidth(): [box: RefObject<HTMLDivElement | null>, wide: number] {
  const box = useRef<HTMLDivElement>(null);
  const [wide, setWide] = useState(600);
  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const watch = new ResizeObserver(() => setWide(element.clientWidth));
    watch.observe(element);
    return () => watch.disconnect();
  }, []);
  return [box, wide];
}

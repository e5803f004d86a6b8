import { useLayoutEffect, useState, type RefCallback } from "react";
import { usePaper } from "./paper";

/** How wide an element is, in px, as it changes; 0 until it is there, however late it comes. */
export function useWidth(): [box: RefCallback<HTMLDivElement>, wide: number] {
  const [element, setElement] = useState<HTMLDivElement | null>(null);
  const [wide, setWide] = useState(0);
  const paper = usePaper();
  useLayoutEffect(() => {
    if (!element) return;
    const measure = () => setWide(element.clientWidth);
    measure();
    const watch = new ResizeObserver(measure);
    watch.observe(element);
    return () => watch.disconnect();
  }, [element, paper]);
  return [setElement, wide];
}

import { useLayoutEffect, useRef, useState, type RefObject } from "react";
import { usePaper } from "./paper";

/** How wide an element is, in px, as it changes; 0 until it is there. `ready` says that it has come. */
export function useWidth(ready = true): [box: RefObject<HTMLDivElement | null>, wide: number] {
  const box = useRef<HTMLDivElement>(null);
  const [wide, setWide] = useState(0);
  const paper = usePaper();
  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const measure = () => setWide(element.clientWidth);
    measure();
    const watch = new ResizeObserver(measure);
    watch.observe(element);
    return () => watch.disconnect();
  }, [ready, paper]);
  return [box, wide];
}

import { useEffect, useState } from "react";
import { coloursChanged } from "../signal";

/** How many hues there are; the next series begins with the first again, and another dash. */
export const hues = 8;

export const hueOf = (i: number) => `var(--hue-${(i % hues) + 1})`;

export const dashOf = (i: number): number[] | undefined =>
  i < hues ? undefined : i < 2 * hues ? [6, 3] : [2, 3];

/** The value of a design token, as canvases need it. */
export function token(name: string): string {
  return getComputedStyle(document.documentElement).getPropertyValue(name).trim();
}

/** Counts the changes between light and dark. */
export function useTheme(): number {
  const [theme, setTheme] = useState(0);
  useEffect(() => {
    return coloursChanged.listen(() => setTheme((n) => n + 1));
  }, []);
  return theme;
}

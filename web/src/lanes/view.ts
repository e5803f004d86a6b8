import { createContext, useContext } from "react";
import type { Series } from "../api/client";
import type { Range, Span } from "../time/range";
import type { UnitsOf } from "../units";

/** What all lanes of a page have in common: one range, one zone, one width of windows, and
 *  where their plots begin and end. */
export interface View {
  range: Range;
  span: Span;
  zone: string;
  width: string;
  hours: string;
  compare: string;
  about?: string;
  /** Of the column that the lanes' plots stand in, and of the margins beside a plot, in px. */
  px: number;
  left: number;
  right: number;
  /** How many px of the screen one px of the page is, on a wall; else 1. */
  scale: number;
  /** On a wall: how wide the figures beside the plots are, in px. */
  wall?: { legend: number };
  catalogue: Map<string, Series>;
  units: UnitsOf;
  /** Readings are kept here, and not only summaries. */
  collects: boolean;
  zoom: (from: number, to: number) => void;
}

export const ViewContext = createContext<View | null>(null);

export function useView(): View {
  const view = useContext(ViewContext);
  if (!view) throw new Error("a lane stands below a time axis");
  return view;
}

/** Where a time lies, in px from the left of the column. */
export function xOf(view: Pick<View, "span" | "px" | "left" | "right">, ms: number): number {
  const wide = Math.max(1, view.px - view.left - view.right);
  return view.left + ((ms - view.span.from) / Math.max(1, view.span.end - view.span.from)) * wide;
}

export function timeAt(view: Pick<View, "span" | "px" | "left" | "right">, x: number): number {
  const wide = Math.max(1, view.px - view.left - view.right);
  const share = Math.min(1, Math.max(0, (x - view.left) / wide));
  return view.span.from + share * (view.span.end - view.span.from);
}

import type { BoardLane, Series } from "../../api/client";
import { number } from "../../format";
import type { Row } from "../rows";
import { lastKnown, valueAt } from "../rows";

export type Kind = BoardLane["kind"];

/** A figure of the legend: its name, its value, and what stands beside it. */
export type Fact = [name: string, value: string, note?: string];

/** What a lane of a kind shows, and how. What is missing is not to be had with it. */
export interface LaneKind {
  /** What menus call it. */
  name: string;

  /** Its title when nobody wrote one; what: the quantities in it, or those with their station. */
  title: (what: string, full: string) => string;

  /** How high it is, in px, with so many series, when nobody made it another. */
  height: (rows: number) => number;

  /** The least height of its plot that can be read across a room, and the one from which it gains nothing. */
  onWall: (rows: number, lane: BoardLane) => { least: number; most: number };

  /** Which series it is for, when somebody adds them. */
  suits?: Series["kind"];

  /** It shows each series as a strip of its own, with its name before it. */
  strips?: true;

  /** The colours of its strips stand for states, not for series. */
  statesInColour?: true;

  /** How many units have an axis. */
  axes?: number;

  /** The unit of its only axis, whatever the series have. */
  unit?: string;

  /** It is an axis of directions, which go around. */
  circular?: true;

  /** The stats that it asks for; none: it shows no series. */
  stats?: (lane: BoardLane, states: Record<string, number>[]) => string[];

  /** The stat that it draws of a window. */
  drawn: (lane: BoardLane) => string;

  /** It can show the time before beside it. */
  compares?: true;

  /** And says in figures how far it is from then. */
  saysHowFar?: true;

  /** Lines with a band from the lowest to the highest, the normal range, and the readings where they are few. */
  detailed?: true;

  /** What the axis goes from and to, for values from low to high. */
  range?: (low: number, high: number) => [number, number];

  /** What a row says at a window; -1: the last that is known. */
  present: (lane: BoardLane, row: Row, window: number, unit: string) => string;

  /** What it says over the whole range. */
  facts: (lane: BoardLane, row: Row, unit: string, when: (stat: string) => string | undefined) => Fact[];
}

export const withUnit = (text: string, unit: string) => (unit ? `${text} ${unit}` : text);

/** The value that a row has at a window, or last. */
export function valueOf(row: Row, stat: string, window: number, last = "last"): number | null {
  return window < 0 ? (lastKnown(row, last) ?? lastKnown(row, stat)) : valueAt(row, stat, window);
}

export const noData = "no data";

export const said = (v: number | null, text: (v: number) => string) => (v === null ? noData : text(v));

export const plainly = (unit: string) => (v: number) => withUnit(number(v), unit);

/** Of kinds that show no series. */
export const nothing = { drawn: () => "", present: () => "", facts: () => [] };

/** The least a lane may be high, in px, and the most. */
export const lowest = 40;
export const highest = 1200;

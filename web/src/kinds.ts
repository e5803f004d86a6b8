import type { SeriesWindows } from "./api/client";
import { moment, number, stateName } from "./format";

type Figure = [name: string, value: string, note?: string];

/** What a trend shows of series of one kind: which stats it asks for, which one is the
 *  line and how that is called, and the figures of the whole range. */
export interface View {
  stats: string[];
  line: string;
  called: string;
  band: boolean;
  figures: (series: SeriesWindows) => Figure[];
}

const whole = (series: SeriesWindows, stat: string) => series.whole.values[stat];
const scaled = (value: number | null | undefined, by: number) => (value == null ? null : value * by);
const when = (series: SeriesWindows, stat: string) => moment(series.whole.times[stat]);

const gauge: View = {
  stats: ["mean", "min", "max", "sd", "first", "last", "min_at", "max_at"],
  line: "mean",
  called: "mean",
  band: true,
  figures: (s) => [
    ["mean", number(whole(s, "mean"))],
    ["lowest", number(whole(s, "min")), when(s, "min_at")],
    ["highest", number(whole(s, "max")), when(s, "max_at")],
    ["standard deviation", number(whole(s, "sd"))],
    ["first", number(whole(s, "first"))],
    ["last", number(whole(s, "last"))],
  ],
};

/** The mean of a total says nothing: what counts is by how much it grew. */
const counter: View = {
  stats: ["increase", "rate", "restarts", "first", "last"],
  line: "increase",
  called: "grew by",
  band: false,
  figures: (s) => [
    ["grew by", number(whole(s, "increase"))],
    ["per hour", number(scaled(whole(s, "rate"), 3600))],
    ["restarts", number(whole(s, "restarts"))],
    ["first", number(whole(s, "first"))],
    ["last", number(whole(s, "last"))],
  ],
};

const state: View = {
  stats: ["twa", "changes", "last", "last_at"],
  line: "twa",
  called: "mean over time",
  band: false,
  figures: (s) => [
    ["mean over time", number(whole(s, "twa"))],
    ["changes", number(whole(s, "changes"))],
    ["last", stateName(s.states, whole(s, "last")), when(s, "last_at")],
  ],
};

const bearing: View = {
  stats: ["mean", "steadiness", "first", "last"],
  line: "mean",
  called: "vector mean",
  band: false,
  figures: (s) => [
    ["vector mean", number(whole(s, "mean"))],
    ["steadiness", `${number(scaled(whole(s, "steadiness"), 100), 3)} %`],
    ["first", number(whole(s, "first"))],
    ["last", number(whole(s, "last"))],
  ],
};

const views: Record<string, View> = { gauge, counter, state, bearing };

export function viewOf(kind: string): View {
  return views[kind] ?? gauge;
}

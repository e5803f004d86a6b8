interface HelpText {
  title: string;
  says: string[];
  keys: [key: string, does: string][];
}

const time: [string, string][] = [
  ["← →", "on the time axis: move the cursor by a window; with Shift by ten"],
  ["+ −", "on the time axis: zoom in and out"],
  ["Page up, Page down", "on the time axis: the range before and after"],
  ["n", "on the time axis: pin a note to the cursor’s time"],
  ["Space, then ↑ ↓", "on a lane’s handle: move the lane"],
];

const lanes =
  "Everything below the time axis shows the same time. Drag over any lane to zoom all of them; Zoom back goes the way back. A lane’s figures stand beside it: at the cursor, or now, and over the whole range; a click on a name singles it out. The menu of a lane (⋯) has its windows as a table, CSV, pictures, and how it is drawn.";

const texts: Record<string, HelpText> = {
  "/": {
    title: "Now",
    says: [
      "First what needs a look: series outside of their normal range (amber outside of the inner one, red outside of the outer), those that have not been heard for longer than a reading speaks for (stale, ten times as long: missing), links that are down.",
      "Then every series by site and station with its latest value and its last day. A name leads to the series’ page, a station’s or site’s name to its board.",
    ],
    keys: [],
  },
  "/trends": {
    title: "Trends",
    says: [
      lanes,
      "Pick series puts them in one lane, or a lane each. Compare draws the same range a day, a week or a year earlier as a ghost. The address holds all of it: a link opens exactly this.",
      "Lines are means of windows with a band from the lowest to the highest reading, so that a spike stays in sight. Where few windows fit, a gateway draws the readings themselves.",
    ],
    keys: time,
  },
  "/boards": {
    title: "Boards",
    says: [
      "A board is a head of present values and lanes below one time axis, with a name. Every site and station has one from the start, made from its definitions.",
      "A board is a JSON file too: export it, write it, import it; /api/board.schema.json says what it is like.",
    ],
    keys: [],
  },
  "/boards/": {
    title: "a board",
    says: [
      lanes,
      "Edit it in place: drag lanes by their handle, or their lower edge to make them higher, add and remove them, change the head; arrow keys do the same; Undo takes a change back, and nothing counts before it is saved. History has every version that was saved.",
    ],
    keys: [["Ctrl Z, Ctrl Y", "while editing: undo, redo"], ...time],
  },
  "/series": {
    title: "a series",
    says: [
      "What a series is and was: its definition with its versions, its latest readings, what of it was refused, how much of each day of a year good data speaks for, how its values are spread, and its mean day.",
    ],
    keys: [],
  },
  "/links": {
    title: "Links",
    says: [
      "Each link with the last 30 days of up and down. Hatched: down. Empty: this service did not run, so nothing is known. An outage opened tells since when, why, how many summaries waited, and when the last of them arrived.",
    ],
    keys: [],
  },
  "/rejects": {
    title: "Rejects",
    says: [
      "What did not count, and why: by rule and source over time, and one by one with the bytes that arrived. When the rule or the source is mended, they can be sent their way once more.",
    ],
    keys: [],
  },
  "/notes": {
    title: "Notes",
    says: [
      "What people pinned to a time and a place. On a trend they stand in a lane of their own; press n on its time axis to pin one.",
    ],
    keys: [],
  },
  "/field": {
    title: "Field",
    says: [
      "Finds out what a broker carries or a device holds, tries a payload, and writes the lines of a configuration for it.",
    ],
    keys: [],
  },
};

/** The help of a page. */
export function helpOf(pathname: string): HelpText {
  if (pathname.startsWith("/boards/")) return texts["/boards/"] as HelpText;
  return texts[pathname] ?? { title: "the console", says: ["Find anything with Ctrl K."], keys: [] };
}

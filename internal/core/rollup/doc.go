// Package rollup reduces readings to one summary per window, and summaries to
// summaries of wider windows.
//
// Readings are the truth and summaries are derived: a window is always computed
// from all its readings in the order of their times, so that a late or repeated
// reading leads to the same summary as one that came in time.
//
// Windows without a reading have no summary, even where a reading before them still
// speaks for their time. Whoever joins summaries has what is needed to make up for
// that: the last reading before the hole, its time, and how long it speaks.
package rollup

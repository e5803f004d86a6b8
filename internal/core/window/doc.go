// Package window cuts a range of time into windows and reduces the rows of one series
// to a row of stats for each.
//
// A Range says from when to when, a Grid how it is cut: by fixed widths or by a
// calendar, with certain hours and days only. A Plan is the windows that come out, cut
// further into segments that no window's edge lies inside of, and the tier whose rows
// fill them exactly. A Reducer takes the rows in and gives the stats.
package window

// Package series names things: a series is the history of one quantity at one
// station, its path is site/station/quantity, and a selector names many series
// at once. Nothing here holds values; see package reading for those.
package series

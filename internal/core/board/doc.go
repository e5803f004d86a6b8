// Package board is what a board of the console says: a head of present values and lanes
// below one time axis. It checks one, and makes the one that every site and station has
// from the start.
package board

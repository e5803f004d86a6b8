// Package query answers windowed queries from a store: it finds the series, has package
// window cut the range, reads what is needed of each series and hands out its rows, one
// series after the other.
package query

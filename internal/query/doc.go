// Package query answers windowed queries from a store: it finds the series, picks
// the tier, reads what is needed and has package window reduce it.
package query

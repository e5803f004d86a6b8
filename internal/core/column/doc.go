// Package column holds rows by column: ascending times and, beside them, any
// number of value columns. Readings have one value column, summaries have one
// for each of their parts; the store treats both alike.
package column

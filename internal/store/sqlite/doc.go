// Package sqlite knows everything about a store that only SQLite knows: how its file is
// opened, written, checked, shrunk and explained, and in which physical order the columns
// of chunks stand. Other packages reach the file through GORM and the types here.
//
// A Writer is the right to change the file, which one goroutine has at a time. Functions that
// need that right take a Writer, so they cannot be called without it.
package sqlite

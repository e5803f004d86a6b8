// Package engine keeps series: the catalogue of them, their readings, summaries and sketches.
//
// A write goes: Append puts one journal row, a batch over many series, and whatever must
// change with it into one durable transaction, adds the rows to the tray, the sorted
// columns in memory, and tells its companions. Seal takes the tray away, moves it into
// chunks, long compressed runs of one series, and empties the journal; what is appended
// meanwhile goes into a new tray. Opening reads the catalogue and the journal rows left
// over, so it does not slow down as history grows.
//
// A read goes: Scan takes what the tray has of the range, lists the series' chunks and
// brings each from what says enough with the least effort: the summary of the whole, its
// steps, or the columns of its rows that are needed. docs/engine.md has the layout.
//
// Invariants: the chunks of one series and tier never overlap; a row in the tray hides one
// of the same time among those that leave it, and these one in a chunk; every row of the
// tray, and every one that leaves it, is in the journal; a synopsis says what its chunk's
// rows say.
package engine

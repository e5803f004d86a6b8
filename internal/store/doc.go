// Package store keeps a service's records in one SQLite file, reached through GORM: the
// catalogue of series, their readings and summaries, what each uplink still has to send,
// cursors and rejects.
//
// A write goes: Append puts one journal row, a batch over many series, and whatever must
// change with it into one durable transaction, then adds the rows to the tray, the sorted
// columns in memory, and marks summaries for the uplinks. Seal takes the tray away, moves
// it into chunks, long compressed runs of one series, and empties the journal; what is
// appended meanwhile goes into a new tray. Opening reads the catalogue and the journal
// rows left over, so it does not slow down as history grows.
//
// A read goes: Scan takes what the tray has of the range, lists the series' chunks and
// brings each from what says enough with the least effort: the summary of the whole, its
// steps, or the columns of its rows that are needed. docs/engine.md has the layout.
//
// Invariants: the chunks of one series and tier never overlap; a row in the tray hides one
// of the same time among those that leave it, and these one in a chunk; every row of the
// tray, and every one that leaves it, is in the journal; a synopsis says what its chunk's
// rows say; what is in the store and neither marked in the file nor in the journal was
// acknowledged by the uplink's central.
package store

// Package store keeps what must not be lost, in one SQLite file reached through
// GORM: the catalogue of series, their readings and summaries, the outbox of each
// uplink, cursors and rejects.
//
// A write goes: Append puts one journal row, a batch over many series, and whatever
// must change with it into one durable transaction, then adds the rows to the head,
// the sorted columns in memory. Seal freezes the head, moves it into chunks, long
// compressed runs of one series, and empties the journal; what is appended meanwhile
// goes into a new head. Opening reads the catalogue and the journal rows left over, so
// it does not slow down as history grows.
//
// A read goes: Scan takes what the head has of the range, lists the series' chunks and
// brings each from what says enough with the least effort: the summary of the whole,
// its steps, or the columns of its rows that are needed. docs/engine.md has the layout.
//
// Invariants: the chunks of one series and tier never overlap; a row in the head
// hides one of the same time among the frozen rows, and these one in a chunk; every row
// of the head and every frozen one is in the journal; a synopsis says what its chunk's
// rows say.
package store

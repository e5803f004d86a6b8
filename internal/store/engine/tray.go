package engine

import (
	"context"
	"maps"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
)

// The tray is the rows in memory that are in the journal and not yet in a chunk: sorted
// columns for each series and tier.

// seriesTier names the rows of one series at one tier.
type seriesTier struct {
	series uint32
	tier   series.Tier
}

// waitForRoom bounds the memory of the tray: what comes faster than it can be sealed
// has to wait.
func (e *Engine) waitForRoom(ctx context.Context) error {
	return e.await(ctx, func(m *memory) bool { return m.hasRoom() || m.closing })
}

// addToTray adds rows to the tray and to what the catalogue knows.
func (m *memory) addToTray(e Entry) {
	at := seriesTier{e.Series, e.Tier}
	before := m.tray[at]
	merged := column.Merge(before, e.Rows)
	if before.Len() == 0 {
		merged = merged.Clone() // the caller keeps its rows
	}
	m.trayRows += merged.Len() - before.Len()
	m.trayWeight += weight(merged) - weight(before)
	m.tray[at] = merged
	if known := m.catalogue.get(e.Series); known != nil {
		if known.saw(e.Tier, e.Rows); !known.Late.none() {
			m.late[e.Series] = struct{}{}
		}
	}
}

// weight is about how many bytes rows take in memory.
func weight(b column.Block) int { return b.Len() * 8 * (1 + len(b.Cols)) }

// inTray returns the unsealed rows of a span. It is read before the chunks: a seal
// in between moves rows from here to there, where they are then found a second time.
func (e *Engine) inTray(at seriesTier, from, to int64) (rows column.Block) {
	e.look(func(m *memory) { rows = column.Merge(m.leaving[at].Between(from, to), m.tray[at].Between(from, to)) })
	return rows
}

// Unsealed calls visit with all rows of a tier that are not in chunks yet: after Open,
// all that was written since the last Seal.
func (e *Engine) Unsealed(tier series.Tier, visit func(series uint32, rows column.Block)) {
	var tray map[seriesTier]column.Block
	e.look(func(m *memory) { tray = maps.Clone(m.tray) })
	for at, rows := range tray {
		if at.tier == tier {
			visit(at.series, rows)
		}
	}
}

// Journalled returns what stands in the journal. Of sketches it has only the starts.
func (e *Engine) Journalled() (entries []Entry, sketches []Sketch) {
	e.look(func(m *memory) {
		for _, part := range []map[seriesTier]column.Block{m.tray, m.leaving} {
			for at, rows := range part {
				entries = append(entries, Entry{Series: at.series, Tier: at.tier, Rows: rows})
			}
		}
		sketches = append(sketches, m.journal.sketches...)
	})
	return entries, sketches
}

// UnsealedRows returns how many rows are not in chunks yet.
func (e *Engine) UnsealedRows() (rows int) {
	e.look(func(m *memory) {
		rows = m.trayRows
		for _, b := range m.leaving {
			rows += b.Len()
		}
	})
	return rows
}

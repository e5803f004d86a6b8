package engine

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"slices"

	"gorm.io/gorm"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

const (
	sealWeight  = 8 << 20   // bytes of the tray that are worth sealing
	sealJournal = 16 << 20  // or of the journal
	sealRows    = 32        // rows of a series and tier that are, on average
	mostWeight  = 128 << 20 // bytes of the tray that are sealed, however few rows that is of each
	mostJournal = 64 << 20  // or of the journal
	atOnce      = 1000      // series and tiers that one transaction of a seal is about
	mostAtOnce  = 1 << 20   // bytes of chunks that it writes, or little more
)

// SealDue reports whether the tray or the journal has grown enough to be sealed. A seal costs about the same
// for each series and tier that it is about, however few rows of it there are. So with many series more is
// left to come together.
func (e *Engine) SealDue() (due bool) {
	e.look(func(m *memory) { due = m.sealDue() })
	return due
}

// shortSeal is of how many series and tiers a seal is short.
const shortSeal = 2000

// SealIsShort reports whether a seal would end within a fraction of a second, as one that a stop waits for has to.
func (e *Engine) SealIsShort() (short bool) {
	e.look(func(m *memory) { short = len(m.tray) <= shortSeal && m.leaving == nil })
	return short
}

// heldSeal is how many bytes of the journal are worth a seal while there is no room for more: chunks take less.
const heldSeal = 256 << 10

func (m *memory) sealDue() bool {
	if m.held != "" && m.journal.bytes > heldSeal {
		return m.leaving == nil
	}
	if m.trayWeight < sealWeight && m.journal.bytes < sealJournal {
		return false
	}
	return m.trayRows >= sealRows*len(m.tray) || m.trayWeight >= mostWeight || m.journal.bytes >= mostJournal
}

// hasRoom reports whether more can come into the tray: what is to be sealed while a seal is on its way has
// to wait once it is twice as much as is worth one.
func (m *memory) hasRoom() bool {
	return m.leaving == nil || m.trayWeight < 2*sealWeight || !m.sealDue() && m.trayWeight < mostWeight
}

// Sealing says how to seal. The zero value will do.
type Sealing struct {
	// Begun is closed once it is settled which rows go; those that come after stay in the
	// journal.
	Begun chan<- struct{}
	// Settled asks for readings of series to be thinned whose definition wants that. It says
	// before which time nobody needs all readings of a series any more.
	Settled func(id uint32) int64
	// States are written with the end of the seal. They must be of the moment of the call.
	States []sqlite.State
}

// Seal moves every row of the tray into chunks, and then empties the journal in one
// transaction. Queries and Appends go on meanwhile, and no transaction of it is long.
// Should it end half way, or with ctx, the rows are in chunks and in the journal, where
// they hide their equals.
func (e *Engine) Seal(ctx context.Context, how Sealing) error {
	e.sealing.Lock()
	defer e.sealing.Unlock()
	last := e.takeTray()
	if how.Begun != nil {
		close(how.Begun)
	}
	err := e.sealLeaving(ctx, last, how)
	switch {
	case err == nil:
		e.file.ClearTrouble("sealing")
	case ctx.Err() == nil:
		err = e.file.SetTrouble("sealing", fmt.Errorf("sealing the store: %w", err))
	default:
		err = fmt.Errorf("sealing the store: %w", err)
	}
	e.alterAndWake(func(m *memory) {
		if err != nil {
			m.restoreLeaving()
		}
		m.leaving = nil
	})
	return err
}

// takeTray takes the tray away and puts an empty one there; last is the last journal row
// whose rows are in it.
func (e *Engine) takeTray() (last uint64) {
	_ = e.file.Write(func(w sqlite.Writer) error {
		e.alter(func(m *memory) {
			m.leaving, m.tray = m.tray, map[seriesTier]column.Block{}
			e.numbers(w).journalMost = m.journal.bytes
			m.trayRows, m.trayWeight, m.journal.bytes = 0, 0, 0
			m.journal.sketches = nil
			last = m.journal.last
		})
		return nil
	})
	return last
}

// restoreLeaving puts rows that could not be sealed back under those that came since.
func (m *memory) restoreLeaving() {
	for at, rows := range m.leaving {
		before := m.tray[at]
		merged := column.Merge(rows, before)
		m.tray[at] = merged
		m.trayRows += merged.Len() - before.Len()
		m.trayWeight += weight(merged) - weight(before)
		m.journal.bytes += 8 * rows.Len() // about; it only says when to seal again
	}
}

// sealLeaving encodes the rows that leave the tray without holding up Appends and puts
// them into the file, so many at a time. Only Seal changes leaving, and only retention
// changes chunks meanwhile.
//
// Series go in the order of their ids, so that a transaction writes neighbouring rows of the catalogue and
// neighbouring entries of the indexes, and each row once.
func (e *Engine) sealLeaving(ctx context.Context, last uint64, how Sealing) error {
	var leaving map[seriesTier]column.Block
	e.look(func(m *memory) { leaving = m.leaving })
	part := e.newRenewal(ctx)
	var places []seriesTier
	for at, rows := range leaving {
		if rows.Len() > 0 {
			places = append(places, at)
		}
	}
	slices.SortFunc(places, func(a, b seriesTier) int {
		return cmp.Or(cmp.Compare(a.series, b.series), cmp.Compare(a.tier, b.tier))
	})
	first := func(at seriesTier) (int64, int) { return leaving[at].Times[0], leaving[at].Len() }
	ahead := 0 // of places has been looked at
	for i, at := range places {
		rows := leaving[at]
		if err := ctx.Err(); err != nil {
			return err
		}
		if i == ahead {
			ahead = together(places, i, leaving)
			if err := part.lookAhead(places[i:ahead], first); err != nil {
				return err
			}
		}
		known, ok := e.Get(at.series)
		if !ok {
			continue
		}
		if how.Settled != nil && at.tier == series.Readings && known.Thinning.Method != 0 {
			if err := part.thin(at, rows, known, how.Settled(at.series)); err != nil {
				return err
			}
		} else if err := part.renew(at, rows, &known.Definition); err != nil {
			return err
		}
		if part.places++; part.places >= atOnce {
			if err := part.put(); err != nil {
				return err
			}
		}
	}
	if err := part.put(); err != nil {
		return err
	}
	return e.file.Write(func(w sqlite.Writer) error { return e.emptyJournal(w, last, how.States) })
}

// together returns up to which of the places, from one on, neighbours are read at once.
func together(places []seriesTier, from int, leaving map[seriesTier]column.Block) (to int) {
	const mostRows = 16_384
	rows := 0
	for to = from; to < len(places) && to < from+atOnce && (to == from || rows < mostRows); to++ {
		rows += leaving[places[to]].Len()
	}
	return to
}

// emptyJournal ends a seal. What companions know of the rows that go is saved with it:
// until now the journal said so.
func (e *Engine) emptyJournal(w sqlite.Writer, last uint64, states []sqlite.State) error {
	var pending []Pending
	for _, c := range e.companions {
		pending = append(pending, c.Pending(w)...)
	}
	err := w.Transaction(func(tx *gorm.DB) error {
		for _, state := range append(slices.Clone(states),
			sqlite.State{Name: journalState, Payload: binary.AppendUvarint(nil, last)}) {
			if err := state.Put(tx); err != nil {
				return err
			}
		}
		for _, p := range pending {
			if err := p.Write(tx); err != nil {
				return err
			}
		}
		return tx.Where("id <= ?", last).Delete(&journalRow{}).Error
	})
	if err != nil {
		return err
	}
	for _, p := range pending {
		p.Written()
	}
	return nil
}

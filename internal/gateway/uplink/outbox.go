package uplink

import (
	"crypto/rand"
	"fmt"
	"slices"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
	"nexocumula/internal/wire"
)

// mostRows is how many summaries go into one parcel at most.
const mostRows = 20_000

// Outbox numbers and packs the summaries of one uplink. Its methods are called from
// the pipeline's committing goroutine only.
type Outbox struct {
	name  string
	tiers []rollup.Tier
	store *store.Store
	epoch string
	next  uint64
	wake  chan struct{} // room for one: parcels were stored
}

// OpenOutbox continues the outbox where it was, or begins the first epoch.
func OpenOutbox(settings config.Uplink, st *store.Store) (*Outbox, error) {
	o := &Outbox{name: settings.Name, tiers: settings.Tiers, store: st, wake: make(chan struct{}, 1)}
	cursors, err := st.Cursors()
	if err != nil {
		return nil, err
	}
	cursor, ok := cursors[cursorName(o.name)]
	if !ok {
		return o, o.begin()
	}
	last, err := st.LastSeq(o.name)
	o.epoch, o.next = cursor.Epoch, max(last, cursor.Seq)+1
	return o, err
}

func cursorName(uplink string) string { return "uplink " + uplink }

// begin starts a new epoch with an empty outbox.
func (o *Outbox) begin() error {
	epoch := rand.Text()
	if err := o.store.ClearOutbox(o.name); err != nil {
		return err
	}
	if err := o.store.Acknowledge(o.name, store.Cursor{Name: cursorName(o.name), Epoch: epoch, Updated: time.Unix(0, 0)}); err != nil {
		return err
	}
	o.epoch, o.next = epoch, 1
	return nil
}

// Parcels packs the runs of the uplink's tiers.
func (o *Outbox) Parcels(runs []wire.Run) ([]store.Parcel, error) {
	var parcels []store.Parcel
	var part []wire.Run
	rows := 0
	flush := func() error {
		if rows == 0 {
			return nil
		}
		payload, err := wire.EncodeBatch(part)
		if err != nil {
			return fmt.Errorf("uplink %s: %w", o.name, err)
		}
		parcels = append(parcels, store.Parcel{Uplink: o.name, Seq: o.next + uint64(len(parcels)), Rows: rows, Payload: payload})
		part, rows = nil, 0
		return nil
	}
	for _, r := range runs {
		if r.Tier == rollup.Quarter && len(r.Sketches) > 0 {
			part, rows = append(part, r), rows+len(r.Sketches)
			if rows >= mostRows {
				if err := flush(); err != nil {
					return nil, err
				}
			}
			continue
		}
		if !slices.Contains(o.tiers, r.Tier) {
			continue
		}
		for i := 0; i < r.Rows.Len(); {
			j := min(r.Rows.Len(), i+mostRows-rows)
			part = append(part, wire.Run{Def: r.Def, Tier: r.Tier, Rows: r.Rows.Rows(i, j)})
			rows += j - i
			i = j
			if rows == mostRows {
				if err := flush(); err != nil {
					return nil, err
				}
			}
		}
	}
	return parcels, flush()
}

// Stored uses the parcels' numbers up and wakes the sender.
func (o *Outbox) Stored(parcels []store.Parcel) {
	if len(parcels) == 0 {
		return
	}
	o.next += uint64(len(parcels))
	select {
	case o.wake <- struct{}{}:
	default:
	}
}

// refill begins a new epoch and packs every summary the store holds, for a central
// that has lost what it had acknowledged.
func (o *Outbox) refill() error {
	if err := o.begin(); err != nil {
		return err
	}
	everything, err := series.ParseSelector("#")
	if err != nil {
		return err
	}
	for _, s := range o.store.List(everything) {
		if err := o.refillSketches(s); err != nil {
			return err
		}
		for _, tier := range o.tiers {
			rows, err := o.store.Read(s.ID, tier, -1<<62, 1<<62)
			if err != nil {
				return err
			}
			parcels, err := o.Parcels([]wire.Run{{Def: s.Definition, Tier: tier, Rows: rows}})
			if err != nil {
				return err
			}
			if err := o.store.Append(store.Batch{Outbox: parcels}); err != nil {
				return err
			}
			o.Stored(parcels)
		}
	}
	return nil
}

func (o *Outbox) refillSketches(s store.Series) error {
	if !s.Sketch {
		return nil
	}
	all, err := o.store.Sketches(s.ID, -1<<62, 1<<62)
	if err != nil {
		return err
	}
	for len(all) > 0 {
		some := all[:min(len(all), mostRows)]
		all = all[len(some):]
		run := wire.Run{Def: s.Definition, Tier: rollup.Quarter}
		for _, one := range some {
			run.Sketches = append(run.Sketches, wire.Sketch{Start: one.Start, Data: one.Data})
		}
		parcels, err := o.Parcels([]wire.Run{run})
		if err != nil {
			return err
		}
		if err := o.store.Append(store.Batch{Outbox: parcels}); err != nil {
			return err
		}
		o.Stored(parcels)
	}
	return nil
}

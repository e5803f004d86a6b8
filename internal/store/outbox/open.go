package outbox

import (
	"fmt"
	"strings"

	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/store/sqlite"
)

// What the file says of an uplink's tiers.
const (
	sendsAll   = "all"
	usualTiers = "10s,1m"
)

// open reads what the file says of the uplink.
func (o *Outbox) open(w sqlite.Writer) error {
	var rows []uplinkRow
	if err := w.DB().Where("name = ?", o.name).Limit(1).Find(&rows).Error; err != nil {
		return fmt.Errorf("reading uplink %s: %w", o.name, err)
	}
	sends := sendsAll
	if o.scope.Tiers != nil {
		sends = strings.Join(series.TierTexts(o.scope.Tiers), ",")
	}
	known := len(rows) == 1
	if known {
		o.row, o.saved.row = rows[0], rows[0]
		cursors, err := parseCursors(o.row.SentRecords)
		if err != nil {
			return fmt.Errorf("reading which records uplink %s has sent: %w", o.name, err)
		}
		o.records = cursors
		if err := o.load(w); err != nil {
			return err
		}
	}
	if known && o.scope.Tiers == nil && o.row.Tiers == usualTiers {
		o.row.Tiers = sends // all there were
	}
	if !known || o.row.Tiers != sends || o.row.Selects != o.scope.Selects {
		o.row.Name, o.row.Tiers, o.row.Selects = o.name, sends, o.scope.Selects
		if err := o.sweep(w); err != nil {
			return err
		}
	}
	return o.estimate(w)
}

// load reads the saved marks. Those that cannot be read may have been of anything.
func (o *Outbox) load(w sqlite.Writer) error {
	var rows []marksRow
	if err := w.DB().Where("uplink = ?", o.name).Find(&rows).Error; err != nil {
		return fmt.Errorf("reading the marks of %s: %w", o.name, err)
	}
	for _, r := range rows {
		o.saved.shards[r.Shard] = sqlite.Sum(r.Data)
		all, err := marks.Decode(r.Data)
		if err != nil {
			event.MarksDamaged.To(o.boxes.log, "uplink", o.name, "error", err)
			return o.sweep(w)
		}
		for _, m := range all {
			if o.sends(m.Series) && (m.Kind != marks.Summaries || o.sendsTier(m.Tier)) { // it may have sent others before
				o.backlog.Add(m)
			}
		}
	}
	return nil
}

// Peer returns what the kind of uplink last knew of its peer; empty at first.
func (o *Outbox) Peer() []byte {
	o.mu.Lock()
	defer o.mu.Unlock()
	return []byte(o.row.Peer)
}

// SetPeer keeps, durably, what the kind of uplink knows of its peer.
func (o *Outbox) SetPeer(peer []byte) error {
	return o.boxes.file.Write(func(w sqlite.Writer) error {
		o.mu.Lock()
		o.row.Peer = string(peer)
		row := o.saved.row // marks that were taken since are in the file still
		row.Name, row.Peer = o.row.Name, o.row.Peer
		o.mu.Unlock()
		return o.putRow(w, row)
	})
}

func (o *Outbox) putRow(w sqlite.Writer, row uplinkRow) error {
	if err := sqlite.Put(w.DB(), &row); err != nil {
		return fmt.Errorf("writing uplink %s: %w", o.name, err)
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.saved.row = row
	return nil
}

// sweep marks everything there is, in one small transaction: the span of all series,
// which is taken apart when its turn comes.
func (o *Outbox) sweep(w sqlite.Writer) error {
	o.mu.Lock()
	o.records, _ = parseCursors("")
	o.row.SentRecords = ""
	if o.row.SweepNext, o.row.SweepLast = 1, o.boxes.engine.LastID(); o.row.SweepLast == 0 {
		o.row.SweepNext = 0
	}
	row := o.row
	o.mu.Unlock()
	return o.putRow(w, row)
}

// MarkEverything marks all that the store holds for a peer that lost some of it, and keeps
// what is known of that peer from now on. It is durable when it returns.
func (o *Outbox) MarkEverything(peer []byte) error {
	return o.boxes.file.Write(func(w sqlite.Writer) error {
		o.mu.Lock()
		o.row.Peer = string(peer)
		o.mu.Unlock()
		if err := o.sweep(w); err != nil {
			return err
		}
		return o.estimate(w)
	})
}

// estimate counts what the sweep is still about.
func (o *Outbox) estimate(w sqlite.Writer) error {
	var rows int
	o.mu.Lock()
	next, last := o.row.SweepNext, o.row.SweepLast
	o.mu.Unlock()
	if next != 0 && next <= last {
		query := w.DB().Model(&sqlite.Chunk{}).Select("coalesce(sum(row_count), 0)").Where("series BETWEEN ? AND ?",
			next, last)
		if o.scope.Tiers != nil {
			query = query.Where("tier IN ?", o.scope.Tiers)
		} else {
			query = query.Where("tier > 0")
		}
		if err := query.Scan(&rows).Error; err != nil {
			return fmt.Errorf("counting what waits for %s: %w", o.name, err)
		}
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.sweepRows = rows
	return nil
}

package store

import (
	"cmp"
	"fmt"
	"hash/crc32"
	"slices"
	"strings"

	"gorm.io/gorm"

	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

// What the file says of an uplink's tiers.
const (
	sendsAll   = "all"
	usualTiers = "10s,1m"
)

// OpenOutbox is the outbox of the uplink with that name: as it was, or with everything
// in it when it is new or sends other tiers than before.
func (s *Store) OpenOutbox(name string, tiers []rollup.Tier, mine func(series.Path) bool) (*Outbox, error) {
	o := &Outbox{store: s, name: name, tiers: tiers, mine: mine, wake: make(chan struct{}, 1), refused: map[marks.Of]*refusedMark{}, savedShards: map[uint32]uint32{}}
	s.write.Lock()
	defer s.write.Unlock()
	var rows []uplinkRow
	if err := s.db.Where("name = ?", name).Limit(1).Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading uplink %s: %w", name, err)
	}
	sends := sendsAll
	if tiers != nil {
		sends = cmp.Or(rollup.Names(tiers), usualTiers)
	}
	known := len(rows) == 1
	if known {
		o.row, o.savedRow = rows[0], rows[0]
		if err := o.load(); err != nil {
			return nil, err
		}
	}
	if known && tiers == nil && o.row.Tiers == usualTiers {
		o.row.Tiers = sends // all there were
	}
	if !known || o.row.Tiers != sends {
		o.row.Name, o.row.Tiers = name, sends
		if err := o.sweep(); err != nil {
			return nil, err
		}
	}
	if err := o.estimate(); err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	o.addUnsealed()
	s.outboxes[name] = o
	return o, nil
}

// ForgetOutboxes forgets the uplinks that are not named any more. Should one come back,
// it begins with everything.
func (s *Store) ForgetOutboxes(but []string) error {
	s.write.Lock()
	defer s.write.Unlock()
	err := s.db.Transaction(func(tx *gorm.DB) error {
		if err := tx.Where("name NOT IN ?", append(but, "")).Delete(&uplinkRow{}).Error; err != nil {
			return err
		}
		return tx.Where("uplink NOT IN ?", append(but, "")).Delete(&marksRow{}).Error
	})
	if err != nil {
		return fmt.Errorf("forgetting uplinks: %w", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for name := range s.outboxes {
		if !slices.Contains(but, name) {
			delete(s.outboxes, name)
		}
	}
	return nil
}

// load reads the saved marks. Those that cannot be read may have been of anything.
func (o *Outbox) load() error {
	var rows []marksRow
	if err := o.store.db.Where("uplink = ?", o.name).Find(&rows).Error; err != nil {
		return fmt.Errorf("reading the marks of %s: %w", o.name, err)
	}
	for _, r := range rows {
		o.savedShards[r.Shard] = crc32.Checksum(r.Data, castagnoli)
		all, err := marks.Decode(r.Data)
		if err != nil {
			o.store.log.Error("saved marks are damaged; everything is sent again", "uplink", o.name, "error", err)
			return o.sweep()
		}
		for _, m := range all {
			o.backlog.Add(m)
		}
	}
	return nil
}

// addUnsealed marks what the journal holds. The store's mu is held.
func (o *Outbox) addUnsealed() {
	since := o.store.judge.Now().UnixNano()
	var entries []Entry
	for at, rows := range o.store.tray {
		entries = append(entries, Entry{Series: at.series, Tier: at.tier, Rows: rows})
	}
	for at, rows := range o.store.leaving {
		entries = append(entries, Entry{Series: at.series, Tier: at.tier, Rows: rows})
	}
	o.add(entries, o.store.journal.sketches, since)
}

// mostSessions is how many of its senders an outbox remembers.
const mostSessions = 64

// Begin notes the session of a new sender, durably: what an earlier one sent is to be
// known as our own.
func (o *Outbox) Begin(session string) error {
	o.store.write.Lock()
	defer o.store.write.Unlock()
	o.mu.Lock()
	all := append(strings.Fields(o.row.Sessions), session)
	o.row.Sessions = strings.Join(all[max(0, len(all)-mostSessions):], " ")
	row := o.savedRow
	row.Name, row.Sessions = o.row.Name, o.row.Sessions
	o.mu.Unlock()
	if err := put(o.store.db, &row); err != nil {
		return fmt.Errorf("noting the session of %s: %w", o.name, err)
	}
	o.mu.Lock()
	o.savedRow = row
	o.mu.Unlock()
	return nil
}

// Knows reports whether a session was one of this outbox.
func (o *Outbox) Knows(session string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return slices.Contains(strings.Fields(o.row.Sessions), session)
}

// sweep marks everything there is, in one small transaction: the span of all series,
// which is taken apart when its turn comes. write is held.
func (o *Outbox) sweep() error {
	o.mu.Lock()
	if o.row.SweepNext, o.row.SweepLast = 1, o.store.lastSeries; o.row.SweepLast == 0 {
		o.row.SweepNext = 0
	}
	row := o.row
	o.mu.Unlock()
	if err := put(o.store.db, &row); err != nil {
		return fmt.Errorf("marking everything for %s: %w", o.name, err)
	}
	o.mu.Lock()
	o.savedRow = row
	o.mu.Unlock()
	return nil
}

// MarkEverything marks all that the store holds for a central that lost some of it, and
// notes from where on it is known again what that central has. It is durable when it
// returns.
func (o *Outbox) MarkEverything(life string, stored uint64) error {
	o.store.write.Lock()
	defer o.store.write.Unlock()
	o.mu.Lock()
	o.row.Life, o.row.Stored = life, stored
	o.mu.Unlock()
	if err := o.sweep(); err != nil {
		return err
	}
	return o.estimate()
}

// estimate counts what the sweep is still about.
func (o *Outbox) estimate() error {
	var rows int
	var tiers []int64
	for _, t := range o.tiers {
		tiers = append(tiers, int64(t))
	}
	o.mu.Lock()
	next, last := o.row.SweepNext, o.row.SweepLast
	o.mu.Unlock()
	if next != 0 && next <= last {
		of := "tier > 0"
		if o.tiers != nil {
			of = "tier IN @tiers"
		}
		err := o.store.db.Raw("SELECT coalesce(sum(row_count), 0) FROM chunks WHERE "+of+" AND series BETWEEN @next AND @last", map[string]any{"tiers": tiers, "next": next, "last": last}).Scan(&rows).Error
		if err != nil {
			return fmt.Errorf("counting what waits for %s: %w", o.name, err)
		}
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.sweepRows = rows
	return nil
}

package store

import (
	"fmt"
	"hash/crc32"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

// Outbox remembers what an uplink still has to send: marks of series, tiers and spans.
// What is in them is read from the store when it is sent.
//
// A mark is durable with the summaries it is of: until these are sealed, their row of the
// journal says that they were written, and the seal that drops the row saves the marks.
// Taking marks away need not be durable at once. After a crash some are there that were
// acknowledged, and sending these again changes nothing. So at all times: what is in the
// store, and neither marked in the file nor in the journal, was acknowledged by the
// central at or before the acknowledgement that stands in the file.
type Outbox struct {
	store *Store
	name  string
	tiers []rollup.Tier
	mine  func(series.Path) bool // whether the uplink sends the series
	wake  chan struct{}          // room for one: something was marked

	mu         sync.Mutex // taken after the store's
	fresh      marks.Set  // of the last minute or so: the present goes before the past
	freshSince time.Time
	backlog    marks.Set
	flight     []marks.Mark // taken, and neither acknowledged nor put back
	refused    map[marks.Of]*refusedMark
	row        uplinkRow
	sweepRows  int // about how many summaries the sweep still has to mark

	savedRow    uplinkRow
	savedShards map[uint32]uint32 // shard → checksum of what is in the file
	savedAt     time.Time
}

// refusedMark is what the central will not take. It stays marked, and is tried again
// after a while.
type refusedMark struct {
	marks.Set
	reason string
	since  time.Time
	until  time.Time
}

// shardSeries is how many neighbouring series share a row of saved marks.
const shardSeries = 1024

// forAll is a span of all times that windows can have.
var forAll = marks.Span{From: 0, To: int64(9e12) * int64(time.Millisecond) / 2}

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
	names := make([]string, len(tiers))
	for i, t := range tiers {
		names[i] = t.String()
	}
	sends := strings.Join(names, ",")
	known := len(rows) == 1
	if known {
		o.row, o.savedRow = rows[0], rows[0]
		if err := o.load(); err != nil {
			return nil, err
		}
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

// nearby is how many windows may lie between two of one span.
const nearby = 64

// add marks what was written. The store's mu is held.
func (o *Outbox) add(entries []Entry, sketches []Sketch, since int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	before := o.fresh.Rows()
	for _, e := range entries {
		if e.Tier == rollup.Readings || e.Rows.Len() == 0 || !slices.Contains(o.tiers, e.Tier) || !o.sends(e.Series) {
			continue
		}
		of, times, width := marks.Of{Series: e.Series, Tier: e.Tier}, e.Rows.Times, int64(e.Tier)
		for i := 0; i < len(times); {
			k := i + 1
			for k < len(times) && times[k]-times[k-1] <= nearby*width {
				k++
			}
			o.fresh.Add(marks.Mark{Of: of, Span: marks.Span{From: times[i], To: times[k-1] + width, Rows: k - i, Since: since}})
			i = k
		}
	}
	for _, one := range sketches {
		if o.sends(one.Series) {
			o.fresh.Add(marks.Mark{Of: marks.Of{Series: one.Series, Sketch: true}, Span: marks.Span{From: one.Start, To: one.Start + int64(rollup.Quarter), Rows: 1, Since: since}})
		}
	}
	if o.fresh.Rows() == before {
		return
	}
	if o.freshSince.IsZero() {
		o.freshSince = time.Unix(0, since)
	}
	select {
	case o.wake <- struct{}{}:
	default:
	}
}

// sends reports whether a series is one of the uplink's. The store's mu is held.
func (o *Outbox) sends(id uint32) bool {
	known := o.store.catalogue.get(id)
	return known != nil && o.mine(known.Path)
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

// Wake has something when there is something to send.
func (o *Outbox) Wake() <-chan struct{} { return o.wake }

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
		err := o.store.db.Raw("SELECT coalesce(sum(row_count), 0) FROM chunks WHERE tier IN ? AND series BETWEEN ? AND ?", tiers, next, last).Scan(&rows).Error
		if err != nil {
			return fmt.Errorf("counting what waits for %s: %w", o.name, err)
		}
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.sweepRows = rows
	return nil
}

// Take takes a mark out: one of the present, or of the backlog when fresh is false. It
// is in flight until Acknowledge or PutBack.
func (o *Outbox) Take(fresh bool) (marks.Mark, bool) {
	if !fresh {
		o.unfold()
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	from := &o.backlog
	if fresh {
		from = &o.fresh
	}
	now := o.store.judge.Now()
	for {
		m, ok := from.Take(nil)
		if !ok {
			if fresh {
				o.freshSince = time.Time{}
			}
			return m, false
		}
		if r := o.refused[m.Of]; r != nil {
			if now.Before(r.until) {
				r.Add(m)
				continue
			}
			r.Move(&o.backlog)
			delete(o.refused, m.Of)
		}
		o.flight = append(o.flight, m)
		return m, true
	}
}

// unfold marks the next series of the sweep when nothing else is left of the backlog.
func (o *Outbox) unfold() {
	o.store.mu.RLock()
	defer o.store.mu.RUnlock()
	o.mu.Lock()
	defer o.mu.Unlock()
	o.retry()
	for o.backlog.Len() == 0 && o.row.SweepNext != 0 {
		id := o.row.SweepNext
		if o.row.SweepNext++; o.row.SweepNext > o.row.SweepLast {
			o.row.SweepNext, o.row.SweepLast, o.sweepRows = 0, 0, 0
		}
		known := o.store.catalogue.get(id)
		if known == nil || !o.mine(known.Path) {
			continue
		}
		all := forAll
		all.Since = o.store.judge.Now().UnixNano()
		for _, tier := range o.tiers {
			o.backlog.Add(marks.Mark{Of: marks.Of{Series: id, Tier: tier}, Span: all})
		}
		if known.Sketch {
			o.backlog.Add(marks.Mark{Of: marks.Of{Series: id, Sketch: true}, Span: all})
		}
	}
}

// retry gives what was refused another chance when its time has come.
func (o *Outbox) retry() {
	now := o.store.judge.Now()
	for of, r := range o.refused {
		if !now.Before(r.until) {
			r.Move(&o.backlog)
			delete(o.refused, of)
		}
	}
}

// Shorten says that of the mark that was taken last only what starts before a time is
// sent now, rows summaries; the rest waits.
func (o *Outbox) Shorten(to int64, rows int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	m := &o.flight[len(o.flight)-1]
	if rest := *m; to < m.To {
		rest.From, rest.Rows = to, max(0, m.Rows-rows)
		o.backlog.Add(rest)
		m.To = to
	}
	o.sweepRows = max(0, o.sweepRows-max(0, rows-m.Rows)) // of a swept span nobody knew how many there are
	m.Rows = rows
}

// PutBack returns what is in flight. The present becomes the past when it could not be
// sent for a while.
func (o *Outbox) PutBack() {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, m := range o.flight {
		if m.To-m.From <= freshSpan {
			o.fresh.Add(m)
		} else {
			o.backlog.Add(m)
		}
	}
	o.flight = nil
	if now := o.store.judge.Now(); !o.freshSince.IsZero() && now.Sub(o.freshSince) > freshFor || o.fresh.Rows() > mostFresh {
		o.fresh.Move(&o.backlog)
		o.freshSince = time.Time{}
	}
}

const (
	freshFor  = time.Minute
	freshSpan = int64(10 * time.Minute)
	mostFresh = 100_000
)

// Refuse keeps a mark that is in flight aside, for the central will not take it.
func (o *Outbox) Refuse(of marks.Of, reason string, wait time.Duration) {
	o.mu.Lock()
	defer o.mu.Unlock()
	now := o.store.judge.Now()
	r := o.refused[of]
	if r == nil {
		r = &refusedMark{since: now}
		o.refused[of] = r
	}
	r.reason, r.until = reason, now.Add(wait)
	o.flight = slices.DeleteFunc(o.flight, func(m marks.Mark) bool {
		if m.Of == of {
			r.Add(m)
		}
		return m.Of == of
	})
}

// Refused is what the central will not take of a series.
type Refused struct {
	Series series.Path
	Reason string
	Since  time.Time
	Rows   int
}

// Refused lists what the central will not take, by series.
func (o *Outbox) Refused() []Refused {
	o.store.mu.RLock()
	defer o.store.mu.RUnlock()
	o.mu.Lock()
	defer o.mu.Unlock()
	var out []Refused
	for of, r := range o.refused {
		known := o.store.catalogue.get(of.Series)
		if known == nil {
			continue
		}
		out = append(out, Refused{Series: known.Path, Reason: r.reason, Since: r.since, Rows: r.Rows()})
	}
	slices.SortFunc(out, func(a, b Refused) int { return strings.Compare(string(a.Series), string(b.Series)) })
	return out
}

// Acknowledge forgets what was in flight: the central has it, as its batch stored in
// this life.
func (o *Outbox) Acknowledge(life string, stored uint64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.row.Life, o.row.Stored = life, stored
	if len(o.flight) > 0 {
		o.row.AckedAt = o.store.judge.Now().UnixNano()
	}
	for _, m := range o.flight {
		o.row.Sent += uint64(m.Rows)
	}
	o.flight = nil
}

// Settle forgets what was in flight without having anything in it.
func (o *Outbox) Settle() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.flight = nil
}

// Acked is the last acknowledgement.
type Acked struct {
	Life   string
	Stored uint64
	Rows   uint64 // summaries in all
	At     time.Time
}

// Acked is how far the central has acknowledged.
func (o *Outbox) Acked() Acked {
	o.mu.Lock()
	defer o.mu.Unlock()
	out := Acked{Life: o.row.Life, Stored: o.row.Stored, Rows: o.row.Sent}
	if o.row.AckedAt != 0 {
		out.At = time.Unix(0, o.row.AckedAt).UTC()
	}
	return out
}

// Backlog is what waits for an uplink.
type Backlog struct {
	Rows    int // about how many summaries
	Oldest  time.Time
	GivenUp uint64 // dropped before they could be sent
}

// Backlog is what waits, what is in flight and what was refused included.
func (o *Outbox) Backlog() Backlog {
	o.mu.Lock()
	defer o.mu.Unlock()
	out := Backlog{Rows: o.fresh.Rows() + o.backlog.Rows() + o.sweepRows, GivenUp: o.row.GivenUp}
	oldest := int64(math.MaxInt64)
	o.each(func(m marks.Mark) { oldest = min(oldest, m.Since) })
	for _, m := range o.flight {
		out.Rows += m.Rows
	}
	for _, r := range o.refused {
		out.Rows += r.Rows()
	}
	if oldest != math.MaxInt64 {
		out.Oldest = time.Unix(0, oldest).UTC()
		out.Rows = max(out.Rows, 1)
	} else if o.row.SweepNext != 0 {
		out.Rows = max(out.Rows, 1)
	}
	return out
}

// each visits all marks. mu is held.
func (o *Outbox) each(visit func(marks.Mark)) {
	o.fresh.Each(visit)
	o.backlog.Each(visit)
	for _, m := range o.flight {
		visit(m)
	}
	for _, r := range o.refused {
		r.Each(visit)
	}
}

// unsent is the first time that is marked of something. The store's mu is held.
func (o *Outbox) unsent(of marks.Of) int64 {
	o.mu.Lock()
	defer o.mu.Unlock()
	if swept := o.row.SweepNext; swept != 0 && of.Series >= swept && of.Series <= o.row.SweepLast && o.sends(of.Series) && (of.Sketch || slices.Contains(o.tiers, of.Tier)) {
		return math.MinInt64
	}
	first := int64(math.MaxInt64)
	for _, set := range []*marks.Set{&o.fresh, &o.backlog} {
		if from, ok := set.First(of); ok {
			first = min(first, from)
		}
	}
	if r := o.refused[of]; r != nil {
		if from, ok := r.First(of); ok {
			first = min(first, from)
		}
	}
	for _, m := range o.flight {
		if m.Of == of {
			first = min(first, m.From)
		}
	}
	return first
}

// giveUp forgets what is marked of something before a time.
func (o *Outbox) giveUp(of marks.Of, before int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	gone := o.fresh.Cut(of, before) + o.backlog.Cut(of, before)
	if r := o.refused[of]; r != nil {
		gone += r.Cut(of, before)
	}
	o.row.GivenUp += uint64(gone)
	if gone > 0 {
		o.store.log.Error("summaries were dropped before they could be sent, as the configuration has it", "uplink", o.name, "series", of.Series, "summaries", gone)
	}
}

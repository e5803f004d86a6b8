// Package outbox remembers what each uplink still has to send.
package outbox

import (
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/store/engine"
)

// Outbox remembers what an uplink still has to send: marks of series, tiers and spans.
// What is in them is read from the store when it is sent.
//
// A mark is durable with the summaries it is of: until these are sealed, their row of the
// journal says that they were written, and the seal that drops the row saves the marks.
// Taking marks away need not be durable at once. After a crash some are there that were
// acknowledged, and sending these again changes nothing. So at all times: what is in the
// store, and neither marked in the file nor in the journal, was acknowledged by the
// uplink's peer at or before the acknowledgement that stands in the file.
type Outbox struct {
	boxes *Outboxes
	name  string
	scope Scope
	wake  chan struct{} // room for one: something was marked

	mu         sync.Mutex // taken after that of Outboxes and before the engine's memory
	inOrder    bool       // see KeepOrder
	order      marks.Order
	turn       marks.Turn // of the backlog, what comes next in this order
	isMine     map[uint32]bool
	fresh      marks.Set // of the last minute or so: the present goes before the past
	freshSince time.Time
	backlog    marks.Set
	flight     []marks.Mark // taken, and neither acknowledged nor put back
	refused    map[marks.Of]*refusedMark
	followed   map[uint32]marks.Span // times of series whose readings are sent as they are made
	records    recordCursors
	row        uplinkRow
	sweepRows  int // about how many summaries the sweep still has to mark
	saved      saved
}

// saved is what the file says.
type saved struct {
	row    uplinkRow
	shards map[uint32]uint32 // shard → checksum
	at     time.Time
}

// refusedMark is a mark that the central refuses. It stays marked, and is tried again
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

// nearby is how many windows may lie between two of one span.
const nearby = 64

// add marks what was written.
func (o *Outbox) add(entries []engine.Entry, sketches []engine.Sketch, since int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	before := o.fresh.Rows() + o.backlog.Rows()
	present := o.boxes.judge.Now().UnixNano() - freshSpan // what is older was late or brought in, and goes with what waits
	for _, e := range entries {
		if e.Tier == series.Readings {
			o.follow(e, since)
			continue
		}
		if e.Rows.Len() == 0 || !o.sendsTier(e.Tier) || !o.sends(e.Series) {
			continue
		}
		of, times, width := marks.Of{Series: e.Series, Tier: e.Tier}, e.Rows.Times, int64(e.Tier)
		for i := 0; i < len(times); {
			k := i + 1
			for past := times[i]+width < present; k < len(times) && times[k]-times[k-1] <= nearby*width && (times[k]+width < present) == past; {
				k++
			}
			set := &o.fresh
			if times[k-1]+width < present {
				set = &o.backlog
			}
			set.Add(marks.Mark{
				Of: of, Span: marks.Span{From: times[i], To: times[k-1] + width, Rows: k - i, Since: since},
			})
			i = k
		}
	}
	for _, one := range sketches {
		if o.sends(one.Series) {
			o.fresh.Add(marks.Mark{
				Of:   marks.Of{Kind: marks.Sketches, Series: one.Series},
				Span: marks.Span{From: one.Start, To: one.Start + int64(series.Quarter), Rows: 1, Since: since},
			})
		}
	}
	if o.fresh.Rows()+o.backlog.Rows() == before {
		return
	}
	if o.freshSince.IsZero() && o.fresh.Len() > 0 {
		o.freshSince = time.Unix(0, since)
	}
	o.wakeUp()
}

// WakeUp has the sender speak up, even with nothing to send.
func (o *Outbox) WakeUp() { o.wakeUp() }

func (o *Outbox) wakeUp() {
	select {
	case o.wake <- struct{}{}:
	default:
	}
}

// addLast marks the last summary of series whose definition changes, which goes with it.
func (o *Outbox) addLast(changed []engine.Series, since int64) {
	for _, known := range changed {
		tiers := slices.DeleteFunc(slices.Clone(known.Tiers.All()), func(t series.Tier) bool { return !o.sendsTier(t) })
		if len(tiers) > 0 {
			widest := tiers[len(tiers)-1]
			o.add([]engine.Entry{{
				Series: known.ID,
				Tier:   widest,
				Rows:   column.Block{Times: []int64{widest.Start(known.LastTime)}},
			}}, nil, since)
		}
	}
}

// sends reports whether a series is one of the uplink's. A series that has an id never gets another
// path, so it is asked for once. mu is held.
func (o *Outbox) sends(id uint32) bool {
	mine, known := o.isMine[id]
	if !known {
		one, found := o.boxes.engine.Get(id)
		if !found {
			return false
		}
		mine = o.scope.Series(one.Path)
		o.isMine[id] = mine
	}
	return mine
}

// Mine reports whether the uplink sends records about a site or something in it.
func (o *Outbox) Mine(about string) bool { return o.scope.About(about) }

func (o *Outbox) sendsTier(t series.Tier) bool {
	return o.scope.Tiers == nil || slices.Contains(o.scope.Tiers, t)
}

// Wake has something when there is something to send.
func (o *Outbox) Wake() <-chan struct{} { return o.wake }

// Take takes a mark out: one of the present, or of the backlog when fresh is false. It
// is in flight until Acknowledge or PutBack.
func (o *Outbox) Take(fresh bool) (marks.Mark, bool) { return o.TakeOf(fresh, nil) }

// TakeOf is Take of series that only names; nil: of all.
func (o *Outbox) TakeOf(fresh bool, only func(series.Path) bool) (marks.Mark, bool) {
	if !fresh {
		o.unfold()
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	var skip func(marks.Of) bool
	if only != nil {
		skip = func(of marks.Of) bool {
			known, ok := o.boxes.engine.Get(of.Series)
			return !ok || !only(known.Path)
		}
	}
	from := &o.backlog
	if fresh {
		from = &o.fresh
	}
	now := o.boxes.judge.Now()
	for {
		m, ok := o.takeFrom(from, skip)
		if !ok {
			if fresh && only == nil {
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
	o.mu.Lock()
	defer o.mu.Unlock()
	o.retry()
	for o.backlog.Len() == 0 && o.row.SweepNext != 0 {
		id := o.row.SweepNext
		if o.row.SweepNext++; o.row.SweepNext > o.row.SweepLast {
			o.row.SweepNext, o.row.SweepLast, o.sweepRows = 0, 0, 0
		}
		known, ok := o.boxes.engine.Get(id)
		if !ok || !o.sends(id) {
			continue
		}
		all := forAll
		all.Since = o.boxes.judge.Now().UnixNano()
		for _, tier := range known.Tiers.All() {
			if !o.sendsTier(tier) {
				continue
			}
			o.backlog.Add(marks.Mark{Of: marks.Of{Series: id, Tier: tier}, Span: all})
		}
		if known.Sketch {
			o.backlog.Add(marks.Mark{Of: marks.Of{Kind: marks.Sketches, Series: id}, Span: all})
		}
	}
}

// retry gives what was refused another chance when its time has come.
func (o *Outbox) retry() {
	now := o.boxes.judge.Now()
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
	o.records.putBack()
	for _, m := range o.flight {
		if m.To-m.From <= freshSpan && !o.inOrder {
			o.fresh.Add(m)
		} else {
			o.backlog.Add(m)
		}
	}
	o.flight = nil
	if now := o.boxes.judge.Now(); o.inOrder || !o.freshSince.IsZero() && now.Sub(o.freshSince) > freshFor ||
		o.fresh.Rows() > mostFresh {
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
	now := o.boxes.judge.Now()
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

// Refused counts the rows of a series that the central refuses.
type Refused struct {
	Series series.Path
	Reason string
	Since  time.Time
	Rows   int
}

// Refused lists what the central will not take, by series.
func (o *Outbox) Refused() []Refused {
	o.mu.Lock()
	defer o.mu.Unlock()
	var out []Refused
	for of, r := range o.refused {
		known, ok := o.boxes.engine.Get(of.Series)
		if !ok {
			continue
		}
		out = append(out, Refused{Series: known.Path, Reason: r.reason, Since: r.since, Rows: r.Rows()})
	}
	slices.SortFunc(out, func(a, b Refused) int { return strings.Compare(string(a.Series), string(b.Series)) })
	return out
}

// Acknowledge forgets what was in flight: the peer has it. What the kind of uplink knows of its
// peer by that is kept with it.
func (o *Outbox) Acknowledge(peer []byte) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.row.Peer = string(peer)
	if len(o.flight) > 0 {
		o.row.AckedAt = o.boxes.judge.Now().UnixNano()
	}
	for _, m := range o.flight {
		if m.Kind != marks.Asked {
			o.row.Sent += uint64(m.Rows)
		}
	}
	o.flight = nil
	o.row.SentRecords = o.records.arrived()
}

// Settle forgets what was in flight without having anything in it.
func (o *Outbox) Settle() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.flight = nil
	o.row.SentRecords = o.records.arrived() // those that were passed over
}

// Acked is the last acknowledgement.
type Acked struct {
	Rows uint64 // summaries in all
	At   time.Time
}

// Acked returns how much the peer has acknowledged.
func (o *Outbox) Acked() Acked {
	o.mu.Lock()
	defer o.mu.Unlock()
	out := Acked{Rows: o.row.Sent}
	if o.row.AckedAt != 0 {
		out.At = time.Unix(0, o.row.AckedAt).UTC()
	}
	return out
}

// Backlog counts the rows that wait for an uplink.
type Backlog struct {
	Rows    int // about how many summaries
	Records int // about how many other records, such as notes
	Asked   int // about how many readings that somebody asked for
	Oldest  time.Time
	GivenUp uint64 // dropped before they could be sent
}

// Backlog counts the waiting rows, including rows in flight and refused ones.
func (o *Outbox) Backlog() Backlog {
	newest := o.boxes.changes()
	o.mu.Lock()
	defer o.mu.Unlock()
	out := Backlog{Rows: o.fresh.Rows() + o.backlog.Rows() + o.sweepRows, GivenUp: o.row.GivenUp}
	oldest := int64(math.MaxInt64)
	o.each(func(m marks.Mark) {
		if m.Kind == marks.Asked {
			out.Asked += m.Rows
			return
		}
		oldest = min(oldest, m.Since)
	})
	for _, m := range o.flight {
		out.Rows += m.Rows
	}
	for _, r := range o.refused {
		out.Rows += r.Rows()
	}
	out.Rows -= out.Asked
	if oldest != math.MaxInt64 {
		out.Oldest = time.Unix(0, oldest).UTC()
		out.Rows = max(out.Rows, 1)
	} else if o.row.SweepNext != 0 {
		out.Rows = max(out.Rows, 1)
	}
	out.Records = o.records.waiting(newest)
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

// unsent returns the first time that is marked of something.
func (o *Outbox) unsent(of marks.Of) int64 {
	o.mu.Lock()
	defer o.mu.Unlock()
	if swept := o.row.SweepNext; swept != 0 && of.Series >= swept && of.Series <= o.row.SweepLast &&
		o.sends(of.Series) && (of.Kind != marks.Summaries || o.sendsTier(of.Tier)) {
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

// giveUp forgets what is marked of something before a time, and returns how many summaries that were.
func (o *Outbox) giveUp(of marks.Of, before int64) (gone int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	gone = o.fresh.Cut(of, before) + o.backlog.Cut(of, before)
	if r := o.refused[of]; r != nil {
		gone += r.Cut(of, before)
	}
	o.row.GivenUp += uint64(gone)
	if gone > 0 {
		event.GivenUp.To(o.boxes.log, "uplink", o.name, "series", of.Series, "summaries", gone)
	}
	return gone
}

package reconcile

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/series"
	"nexocumula/internal/replica"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/outbox"
	"nexocumula/internal/wire"
)

// Comparer is a gateway, or a central with one above it, that compares what an uplink has sent.
type Comparer struct {
	Store  Store
	Box    *outbox.Outbox
	Kinds  []replica.RecordKind // that the uplink sends
	Sends  func(series.Path) bool
	About  func(place string) bool
	Only   bool                                // it does not send all series of its sites
	Tiers  []series.Tier                       // nil: all there are
	Kept   func(tier series.Tier) (from int64) // since when all summaries of a tier are kept here
	Ask    func(ctx context.Context, in wire.Compare) (wire.Compared, error)
	Settle time.Duration // how long what is on its way is waited for
}

// Result is what a comparison found.
type Result struct {
	Scopes        []wire.Scope
	Series        int
	Rows          uint64 // summaries and sketches that are the same
	Records       uint64 // that are the same
	Differences   []wire.Difference
	RecordsDiffer []RecordDifference
	Waiting       int // rows that differ because they still wait to be sent
	Mended        int // rows, definitions and kinds of records that were sent again
}

// RecordDifference is a record that differs.
type RecordDifference struct {
	Kind, ID, What string
}

// What differs of a definition.
const Definition = "definition"

// Different returns how many things differ.
func (r *Result) Different() int { return len(r.Differences) + len(r.RecordsDiffer) }

const (
	seriesAtOnce = 2000
	daysAtOnce   = 100 // series
	hashesAtOnce = 50_000
	tries        = 1 // besides the first
)

// Run compares summaries that start from one time to another.
func (c *Comparer) Run(ctx context.Context, from, to int64) (out Result, err error) {
	for try := 0; ; try++ {
		if out, err = c.once(ctx, from, to); err != nil || out.Different()+out.Waiting == 0 || try == tries {
			return out, err
		}
		select { // what was on its way meanwhile may have arrived
		case <-time.After(c.Settle):
		case <-ctx.Done():
			return out, ctx.Err()
		}
	}
}

func (c *Comparer) once(ctx context.Context, from, to int64) (out Result, err error) {
	var all []engine.Series
	for _, s := range c.Store.List(series.Everything()) {
		if c.Sends(s.Path) {
			all = append(all, s)
		}
	}
	out.Scopes = c.scopes(all, from, to)
	var sums []summed
	for range len(out.Scopes) + 2 { // each end may keep less than the other
		if sums, err = sumAll(ctx, c.Store, all, out.Scopes); err != nil {
			return out, err
		}
		root := whole(sums)
		answer, err := c.Ask(ctx, wire.Compare{Scopes: out.Scopes, All: &root})
		if err != nil {
			return out, err
		}
		if !slices.Equal(answer.Scopes, out.Scopes) {
			out.Scopes = answer.Scopes
			continue
		}
		if !answer.Equal || c.Only {
			err = c.bySeries(ctx, sums, &out)
		}
		if err != nil {
			return out, err
		}
		break
	}
	out.Series = len(sums)
	for _, s := range sums {
		out.Rows += s.Rows.Rows
	}
	for _, d := range out.Differences {
		if d.What == wire.Missing || d.What == wire.Changed || d.What == wire.Fuller {
			out.Rows--
		}
	}
	out.Rows -= min(out.Rows, uint64(out.Waiting))
	return out, c.byRecord(ctx, &out)
}

// scopes returns what can be compared: whole days, of which both ends keep all.
func (c *Comparer) scopes(all []engine.Series, from, to int64) (out []wire.Scope) {
	var tiers []series.Tier
	sketches := false
	for _, s := range all {
		tiers = append(tiers, s.Tiers.All()...)
		sketches = sketches || s.Sketch
	}
	slices.Sort(tiers)
	for _, tier := range slices.Compact(tiers) {
		if c.Tiers == nil || slices.Contains(c.Tiers, tier) {
			out = append(out, c.scope(tier, from, to))
		}
	}
	if sketches {
		out = append(out, c.scope(0, from, to))
	}
	return slices.DeleteFunc(out, func(s wire.Scope) bool { return s.From >= s.To })
}

func (c *Comparer) scope(tier series.Tier, from, to int64) wire.Scope {
	begin := dayOf(from)
	if kept := c.Kept(tier); kept > begin {
		begin = dayOf(kept) + Day
	}
	return wire.Scope{Tier: int64(tier), From: begin, To: to}
}

// bySeries finds the series that differ, then their days, then rows.
func (c *Comparer) bySeries(ctx context.Context, sums []summed, out *Result) error {
	of := map[string]*summed{}
	for i := range sums {
		of[sums[i].SeriesDigest.Path] = &sums[i]
	}
	for first := 0; first == 0 || first < len(sums); first += seriesAtOnce {
		end := min(first+seriesAtOnce, len(sums))
		asked := wire.SeriesRange{Only: c.Only}
		for _, s := range sums[first:end] {
			asked.Series = append(asked.Series, s.SeriesDigest)
		}
		if first > 0 {
			asked.From = sums[first].SeriesDigest.Path
		}
		if end < len(sums) {
			asked.To = sums[end].SeriesDigest.Path
		}
		answer, err := c.Ask(ctx, wire.Compare{Scopes: out.Scopes, Series: &asked})
		if err != nil {
			return err
		}
		for _, path := range answer.Defined {
			out.Differences = append(out.Differences, wire.Difference{Path: path, What: Definition})
		}
		for _, path := range answer.Extra {
			out.Differences = append(out.Differences, wire.Difference{Path: path, What: wire.Extra})
		}
		var differ []*summed
		for _, path := range answer.Series {
			if s := of[path]; s != nil {
				differ = append(differ, s)
			}
		}
		for some := range slices.Chunk(differ, daysAtOnce) {
			if err := c.byDay(ctx, some, out); err != nil {
				return err
			}
		}
	}
	return nil
}

func (c *Comparer) byDay(ctx context.Context, some []*summed, out *Result) error {
	ask := wire.Compare{Scopes: out.Scopes}
	at := map[string]*summed{}
	for _, s := range some {
		at[s.SeriesDigest.Path] = s
		for _, scope := range out.Scopes {
			days, err := daysOf(ctx, c.Store, &s.Series, scope)
			if err != nil {
				return err
			}
			ask.Days = append(ask.Days, wire.SeriesDays{Path: s.SeriesDigest.Path, Tier: scope.Tier, Days: days})
		}
	}
	answer, err := c.Ask(ctx, ask)
	if err != nil {
		return err
	}
	rows := wire.Compare{Scopes: out.Scopes}
	hashes, counts := 0, map[countOf]float64{}
	flush := func() error {
		if len(rows.Rows) == 0 {
			return nil
		}
		answer, err := c.Ask(ctx, rows)
		for _, d := range answer.Rows {
			if d.What == wire.Changed && d.Count > counts[countOf{d.Path, d.Tier, d.Start}] {
				d.What = wire.Fuller
			}
			c.add(at[d.Path], d, out)
		}
		rows.Rows, hashes = nil, 0
		clear(counts)
		return err
	}
	for _, differ := range answer.Days {
		s := at[differ.Path]
		if s == nil {
			continue
		}
		for _, day := range differ.Days {
			one := wire.DayRows{Path: differ.Path, Tier: differ.Tier, Day: day.Day}
			scope := within(out.Scopes, differ.Tier, day.Day)
			if err := eachRow(ctx, c.Store, &s.Series, scope, func(r row) {
				one.Starts, one.Hashes = append(one.Starts, r.start), append(one.Hashes, r.hash)
				counts[countOf{differ.Path, differ.Tier, r.start}] = r.count
			}); err != nil {
				return err
			}
			rows.Rows = append(rows.Rows, one)
			if hashes += len(one.Starts); hashes > hashesAtOnce {
				if err := flush(); err != nil {
					return err
				}
			}
		}
	}
	return flush()
}

// countOf says which row counts so many readings.
type countOf struct {
	path  string
	tier  int64
	start int64
}

// add takes a difference, unless the row only waits to be sent.
func (c *Comparer) add(s *summed, d wire.Difference, out *Result) {
	if s == nil {
		return
	}
	if d.What != wire.Extra && c.Box.Waits(ofTier(s.ID, d.Tier), d.Start, d.Start+widthOf(d.Tier)) {
		out.Waiting++
		return
	}
	out.Differences = append(out.Differences, d)
}

func ofTier(id uint32, tier int64) marks.Of {
	if tier == 0 {
		return marks.Of{Kind: marks.Sketches, Series: id}
	}
	return marks.Of{Series: id, Tier: series.Tier(tier)}
}

func widthOf(tier int64) int64 {
	if tier == 0 {
		return int64(series.Quarter)
	}
	return tier
}

// byRecord compares the records.
func (c *Comparer) byRecord(ctx context.Context, out *Result) error {
	for _, kind := range c.Kinds {
		if !slices.Contains(Compared, kind.Name) {
			continue
		}
		states, err := States(kind, c.About)
		if err != nil {
			return err
		}
		list := wire.RecordList{Kind: kind.Name, Digest: RecordsDigest(states)}
		answer, err := c.Ask(ctx, wire.Compare{Scopes: out.Scopes, Records: []wire.RecordList{list}})
		if err != nil {
			return err
		}
		out.Records += uint64(len(states))
		if answer.Equal {
			continue
		}
		list.Records = states
		if answer, err = c.Ask(ctx, wire.Compare{Scopes: out.Scopes, Records: []wire.RecordList{list}}); err != nil {
			return err
		}
		for _, differ := range answer.Records {
			for _, r := range differ.Records {
				out.Records--
				out.RecordsDiffer = append(out.RecordsDiffer, RecordDifference{kind.Name, r.ID, wire.Missing})
			}
			for _, r := range differ.Extra {
				if !c.Only {
					out.RecordsDiffer = append(out.RecordsDiffer, RecordDifference{kind.Name, r.ID, wire.Extra})
				}
			}
		}
	}
	return nil
}

// Mend has everything go again that the other end lacks, or has another of, waits until it has arrived, and compares once
// more. What only the other end has, or of which it knows more, stays.
func (c *Comparer) Mend(ctx context.Context, found Result, from, to int64) (out Result, err error) {
	mended := 0
	kinds := map[string]bool{}
	var waits []marks.Mark
	for _, d := range found.Differences {
		known, ok := c.Store.Find(series.Path(d.Path))
		if !ok || d.What == wire.Extra || d.What == wire.Fuller {
			continue
		}
		mended++
		if d.What == Definition {
			c.Box.MarkDefinition(known)
			continue
		}
		m := marks.Mark{Of: ofTier(known.ID, d.Tier), Span: marks.Span{From: d.Start, To: d.Start + widthOf(d.Tier), Rows: 1}}
		c.Box.Mark(m)
		waits = append(waits, m)
	}
	for _, r := range found.RecordsDiffer {
		kinds[r.Kind] = true
	}
	for kind := range kinds {
		mended++
		c.Box.MarkRecords(kind)
	}
	if mended == 0 {
		return found, nil
	}
	for slices.ContainsFunc(waits, func(m marks.Mark) bool { return c.Box.Waits(m.Of, m.From, m.To) }) || c.Box.Backlog().Records > 0 {
		select {
		case <-time.After(c.Settle / 4):
		case <-ctx.Done():
			return found, fmt.Errorf("what was marked has not arrived yet: %w", ctx.Err())
		}
	}
	out, err = c.Run(ctx, from, to)
	out.Mended = mended
	return out, err
}

// Text says what was found in a line.
func (r *Result) Text(here, there string) string {
	var parts []string
	from, to := int64(0), int64(0)
	for _, s := range r.Scopes {
		if from == 0 || s.From < from {
			from = s.From
		}
		to = max(to, s.To)
	}
	parts = append(parts, fmt.Sprintf("%s ↔ %s, %s to %s: %d summaries of %d series and %d records equal, %d different", here, there,
		time.Unix(0, from).UTC().Format(time.DateOnly), time.Unix(0, to-1).UTC().Format(time.DateOnly), r.Rows, r.Series, r.Records, r.Different()))
	if r.Waiting > 0 {
		parts = append(parts, fmt.Sprintf("%d wait to be sent", r.Waiting))
	}
	if r.Mended > 0 {
		parts = append(parts, fmt.Sprintf("%d were sent again", r.Mended))
	}
	return strings.Join(parts, "; ")
}

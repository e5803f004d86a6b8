package pipeline

import (
	"context"
	"fmt"
	"slices"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
	"nexocumula/internal/event"
	"nexocumula/internal/store/engine"
)

// Readings of a series may be thinned once the windows they fall into are summarised, and so long
// after them that no more are to be expected between them. Should one come all the same, the
// summary of its window could not be made again of all that arrived: it becomes a reject. Gaps
// are another matter. The windows around them are not thinned, so that what fills them later counts.

// refuseBetween makes rejects of readings that fall between thinned ones.
func (c *committer) refuseBetween(ctx context.Context, all []*Delivery) {
	late := map[*member][]int64{}
	for _, d := range all {
		for _, s := range d.screened {
			if m := s.series; s.time <= c.newestOf(m)-int64(engine.Settling(&m.def)) && c.thins(m) {
				late[m] = append(late[m], s.time)
			}
		}
	}
	if len(late) == 0 {
		return
	}
	c.sealer.sealing.Lock() // which may be about to thin where they belong
	defer c.sealer.sealing.Unlock()
	for m, times := range late {
		known, ok := c.store.Get(m.id)
		if !ok {
			continue
		}
		slices.Sort(times)
		refused, err := c.between(ctx, known, slices.Compact(times))
		if err != nil {
			event.ThinningUnknown.To(c.log, "series", m.def.Path, "error", err)
			continue
		}
		for _, d := range all {
			c.refuse(d, m, known, refused)
		}
	}
}

// newestOf returns the time of the newest reading of a series.
func (c *committer) newestOf(m *member) int64 {
	k := c.of(m)
	if k.newest == 0 {
		known, _ := c.store.Get(m.id)
		k.newest, k.thinned = known.LastTime, known.ThinnedTo != 0
	}
	return k.newest
}

// thins reports whether readings of a series are thinned, or were: then it does not matter what its rule
// says now.
func (c *committer) thins(m *member) bool { return c.of(m).thinned || m.def.Thinning.Method != 0 }

// refuse takes readings of a series out of a delivery, and what goes with them.
func (c *committer) refuse(d *Delivery, m *member, known engine.Series, times []int64) {
	if len(times) == 0 {
		return
	}
	var kept []screened
	for _, s := range d.screened {
		_, found := slices.BinarySearch(times, s.time)
		switch {
		case found && s.series == m:
			one := &d.Readings[s.of]
			by := ""
			if known.Thinning.Method != 0 {
				by = " (" + known.Thinning.String() + ")"
			}
			reason := fmt.Sprintf("%s: it falls between readings that were thinned%s, as all are more than %s before the newest; the summary of its window could not be made again",
				one.Path, by, span.Format(engine.Settling(&known.Definition)))
			d.Rejects = append(d.Rejects, one.Reject(c.judge.Now().UnixNano(), reading.Thinned, reason))
		case found && m.marks != nil && s.series == m.marks: // how good it was is of no matter
		default:
			kept = append(kept, s)
		}
	}
	d.screened = kept
}

// alongFor is how much of a series is looked at at once.
const alongFor = int64(time.Hour)

// between returns those of the times, in order, that fall between readings of which not all are kept.
func (c *committer) between(ctx context.Context, s engine.Series, times []int64) (out []int64, err error) {
	k, _ := slices.BinarySearch(times, s.ThinnedTo)
	for times = times[:k]; len(times) > 0; {
		n := 1
		for n < len(times) && times[n]-times[0] < alongFor {
			n++
		}
		around, err := c.roller.around(ctx, &s, times[0], times[n-1]+int64(s.FreshFor))
		if err != nil {
			return nil, err
		}
		for _, t := range times[:n] {
			if !around.takes(t) {
				out = append(out, t)
			}
		}
		times = times[n:]
	}
	return out, nil
}

// around returns the known rows of a stretch of a series: the summaries of its narrowest tier, and the
// readings that are kept.
type around struct {
	tier       series.Tier
	fresh      int64
	sums, rows column.Block
}

func (r *roller) around(ctx context.Context, s *engine.Series, from, to int64) (out around, err error) {
	out.tier, out.fresh = s.Tiers.Narrowest(), int64(s.FreshFor)
	from, to = out.tier.Start(from)-out.fresh-int64(out.tier), out.tier.Start(to)+int64(out.tier)
	if out.sums, err = r.store.Read(ctx, s.ID, out.tier, from, to); err != nil {
		return out, err
	}
	out.rows, err = r.store.Read(ctx, s.ID, series.Readings, from, to)
	return out, err
}

// takes reports whether the summaries that a reading of a time would change can be made again of all
// their readings: that of its own window, and of the next, for whose start it may speak.
func (a *around) takes(t int64) bool {
	window := a.tier.Start(t)
	next := a.sums.Search(window + 1)
	return a.complete(window) && (next == a.sums.Len() || a.sums.Times[next] >= t+a.fresh || a.whole(next))
}

// complete reports whether all readings are here that the summary of a window is made of: its own, and
// the one before it, should that speak for its start.
func (a *around) complete(window int64) bool {
	i := a.sums.Search(window)
	if i > 0 {
		last := a.sums.Times[i-1] + int64(a.sums.Cols[rollup.ColLastAt][i-1])
		k := a.rows.Search(last)
		if last+a.fresh > window && (k == a.rows.Len() || a.rows.Times[k] != last) {
			return false
		}
	}
	return i == a.sums.Len() || a.sums.Times[i] != window || a.whole(i)
}

// whole reports whether all readings of a summary are here.
func (a *around) whole(i int) bool {
	start := a.sums.Times[i]
	return float64(a.rows.Between(start, start+int64(a.tier)).Len()) >= a.sums.Cols[rollup.ColCount][i]
}

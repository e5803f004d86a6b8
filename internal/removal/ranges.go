package removal

import (
	"sync/atomic"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/records"
)

// Ranges know what was removed of each series. They may be used by many at once.
type Ranges struct {
	gaps  records.Gaps
	known atomic.Pointer[known]
}

type known struct {
	change uint64 // the last change of gaps that of knows
	of     map[series.Path][]records.Gap
}

// NewRanges reads what was removed.
func NewRanges(gaps records.Gaps) (*Ranges, error) {
	r := &Ranges{gaps: gaps}
	return r, r.Refresh()
}

// Refresh reads what was removed since.
func (r *Ranges) Refresh() error {
	newest, err := r.gaps.Newest()
	if err != nil {
		return err
	}
	if k := r.known.Load(); k != nil && k.change == newest {
		return nil
	}
	return r.reload(newest)
}

// Renamed reads again under which names something was removed.
func (r *Ranges) Renamed() error {
	newest, err := r.gaps.Newest()
	if err != nil {
		return err
	}
	return r.reload(newest)
}

func (r *Ranges) reload(newest uint64) error {
	of, err := r.gaps.Removed()
	if err != nil {
		return err
	}
	r.known.Store(&known{newest, of})
	return nil
}

func (r *Ranges) list(path series.Path) []records.Gap {
	if of := r.known.Load().of; len(of) > 0 {
		return of[path]
	}
	return nil
}

// At returns what was removed of a series at a time, or nil.
func (r *Ranges) At(path series.Path, at int64) *records.Gap {
	for _, g := range r.list(path) {
		if at >= g.From.UnixNano() && at < g.To.UnixNano() {
			return &g
		}
	}
	return nil
}

// is reports whether exactly this time of a series was removed.
func (r *Ranges) is(path series.Path, from, to time.Time) bool {
	for _, g := range r.list(path) {
		if g.From.Equal(from) && g.To.Equal(to) {
			return true
		}
	}
	return false
}

// Without returns summaries of a series but for those of what was removed: of windows within it, and of windows that
// reach into it and were made of a reading there. Such come with batches from before, and from restored copies.
func (r *Ranges) Without(path series.Path, tier series.Tier, rows column.Block, kind series.Kind) column.Block {
	removed := r.list(path)
	if len(removed) == 0 {
		return rows
	}
	out := rollup.NewBlock(kind, rows.Len())
	for i := range rows.Len() {
		sum, start := rollup.FromRow(rows, i, kind), rows.Times[i]
		if !madeOf(removed, sum, start, start+int64(tier)) {
			sum.AddTo(&out, start, kind)
		}
	}
	return out
}

func madeOf(removed []records.Gap, sum rollup.Summary, start, end int64) bool {
	for _, g := range removed {
		from, to := g.From.UnixNano(), g.To.UnixNano()
		if start >= to || end <= from {
			continue
		}
		if start >= from && end <= to {
			return true
		}
		for _, t := range []int64{sum.FirstAt, sum.LastAt, sum.MinAt, sum.MaxAt} {
			if t >= from && t < to {
				return true
			}
		}
	}
	return false
}

package query

import (
	"cmp"
	"fmt"
	"math"
	"slices"
)

// Rank hands out only so many series, those with the highest or the lowest stat of the
// whole range, in that order.
type Rank struct {
	Highest bool
	Most    int
	By      string // stat; "": the first asked for
}

const mostRanked = 200

// ParseRank reads how many of the highest, or of the lowest, and by which stat.
func ParseRank(highest, lowest int, by string) (*Rank, error) {
	switch {
	case highest == 0 && lowest == 0 && by != "":
		return nil, fmt.Errorf("rank says by which stat series are compared; give highest or lowest as well, such as lowest=3")
	case highest == 0 && lowest == 0:
		return nil, nil
	case highest != 0 && lowest != 0:
		return nil, fmt.Errorf("highest and lowest are both given; use one of them")
	case highest < 0 || lowest < 0 || max(highest, lowest) > mostRanked:
		return nil, fmt.Errorf("write how many series you want, 1 to %d", mostRanked)
	}
	return &Rank{highest > 0, max(highest, lowest), by}, nil
}

// ranked is a sink that keeps the best so far, and hands them on in the end.
type ranked struct {
	Rank
	to   Sink
	stat int
	head Head
	best []SeriesRows
}

func newRanked(q Windows, to Sink) (*ranked, error) {
	out := &ranked{Rank: *q.Rank, to: to}
	if !q.Shift.IsZero() {
		return nil, refuse("rank", "series and their shifted windows cannot be ranked together; leave shift out")
	}
	names := []string{"value"}
	if len(q.Calculations) == 0 {
		names = names[:0]
		for _, s := range q.Stats {
			names = append(names, s.String())
		}
	}
	if out.By != "" {
		if out.stat = slices.Index(names, out.By); out.stat < 0 {
			return nil, refuse("rank", "rank %s is not among the stats asked for; ask for it as well", out.By)
		}
	}
	if len(q.Stats) > 0 && q.Stats[out.stat].IsTime() {
		return nil, refuse("rank", "stat %s is a time; rank by one with a number", q.Stats[out.stat])
	}
	return out, nil
}

// Head keeps it until it is known which series had no number.
func (r *ranked) Head(h Head) error {
	if cells := r.Most * len(h.Windows) * len(h.Stats); cells > mostCells {
		return refuse("too_large",
			"%d series of %d windows and %d stats are %d numbers to be ranked at once; at most %d are possible: ask for fewer, or for the whole range as one window",
			r.Most, len(h.Windows), len(h.Stats), cells, mostCells)
	}
	r.head = h
	return nil
}

func (r *ranked) Series(rows SeriesRows) error {
	v := rows.Whole[r.stat]
	if math.IsNaN(v) {
		r.head.LeftOut = append(r.head.LeftOut, rows.Name+": "+r.whyNot(rows))
		return nil
	}
	at, _ := slices.BinarySearchFunc(r.best, v, func(one SeriesRows, v float64) int {
		order := cmp.Compare(one.Whole[r.stat], v)
		if r.Highest {
			order = -order
		}
		if order == 0 {
			return -1 // of equals the first stays first
		}
		return order
	})
	if at < r.Most {
		r.best = slices.Insert(r.best, at, rows)
		r.best = r.best[:min(len(r.best), r.Most)]
	}
	return nil
}

// whyNot says why a series has no number to rank it by.
func (r *ranked) whyNot(rows SeriesRows) string {
	if i := r.stat; i < len(rows.Least) && rows.Least[i] != nil && !math.IsNaN(rows.WholeLeast[i]) {
		return fmt.Sprintf("it cannot be ranked, as its %s is only known to be between %v and %v", rows.Stats[i],
			rows.WholeLeast[i], rows.WholeMost[i])
	}
	for _, one := range rows.Why {
		if one.Stat == rows.Stats[r.stat] {
			return "it cannot be ranked: " + one.Text
		}
	}
	return "no number to rank it by"
}

func (r *ranked) end() error {
	if err := r.to.Head(r.head); err != nil {
		return err
	}
	for i, rows := range r.best {
		rows.Rank = i + 1
		if err := r.to.Series(rows); err != nil {
			return err
		}
	}
	return nil
}

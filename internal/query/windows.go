package query

import (
	"context"
	"fmt"
	"slices"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store"
)

// Windows asks for windows of all series a selector names.
type Windows struct {
	Select   series.Selector
	From, To time.Time
	Width    time.Duration // 0: one that gives a few hundred windows
	Stats    []window.Stat
	Gaps     window.Gaps
}

// Answer is what Windows brought.
type Answer struct {
	Plan   window.Plan
	Series []SeriesRows
}

// SeriesRows are the rows of one series.
type SeriesRows struct {
	store.Series
	window.Rows
}

// Limits of one query.
const (
	MaxRows   = 500_000 // windows times series
	MaxSeries = 10_000
)

// Refusal is a query that cannot be answered, and what to change.
type Refusal struct {
	Code    string
	Message string
}

func (r *Refusal) Error() string { return r.Message }

func refuse(code, format string, args ...any) error {
	return &Refusal{Code: code, Message: fmt.Sprintf(format, args...)}
}

// Run answers the query. readings says whether the store has tier 0.
func (q Windows) Run(ctx context.Context, st *store.Store, readings bool) (Answer, error) {
	if q.Width == 0 {
		q.Width = fittingWidth(q.To.Sub(q.From))
	}
	plan, err := window.MakePlan(q.From.UnixNano(), q.To.UnixNano(), q.Width, readings)
	if err != nil {
		return Answer{}, refuse("range", "%v", err)
	}
	found, err := Find(st, q.Select)
	if err != nil {
		return Answer{}, err
	}
	if rows := plan.Windows() * len(found); rows > MaxRows || len(found) > MaxSeries {
		return Answer{}, refuse("too_large", "%d windows of %d series are %d rows; at most %d rows and %d series are answered at once: ask for a shorter range, a wider width than %s, or fewer series",
			plan.Windows(), len(found), rows, MaxRows, MaxSeries, span.Format(plan.Width))
	}
	answer := Answer{Plan: plan}
	for _, s := range found {
		if err := ctx.Err(); err != nil {
			return Answer{}, err
		}
		block, err := read(st, s, plan, readings)
		if err != nil {
			return Answer{}, err
		}
		answer.Series = append(answer.Series, SeriesRows{s, window.Reduce(plan, block, s.Definition, q.Stats, q.Gaps)})
	}
	return answer, nil
}

// read is what the plan's tier has for the range. Summaries of windows that are still
// open are not there yet: behind the last one, those of the finer tiers stand in, and
// behind these the readings, so that an answer goes up to now.
func read(st *store.Store, s store.Series, p window.Plan, readings bool) (column.Block, error) {
	if p.Tier == rollup.Readings {
		return st.Read(s.ID, p.Tier, p.From-int64(s.FreshFor), p.To)
	}
	out, from := rollup.NewBlock(0), p.From
	for i := slices.Index(rollup.Tiers, p.Tier); i >= 0; i-- {
		rows, err := st.Read(s.ID, rollup.Tiers[i], from, p.To)
		if err != nil {
			return out, err
		}
		if rows.Len() > 0 {
			out.Append(rows)
			from = rows.Times[rows.Len()-1] + int64(rollup.Tiers[i])
		}
	}
	if !readings {
		return out, nil
	}
	raw, err := st.Read(s.ID, rollup.Readings, from-int64(s.FreshFor), p.To)
	if err != nil {
		return out, err
	}
	finest := rollup.Tiers[0]
	for i := raw.Search(from); i < raw.Len(); {
		start := finest.Start(raw.Times[i])
		if sum, ok := rollup.Fold(raw, start, finest.Width(), s.Definition); ok {
			sum.AddTo(&out, start)
		}
		i = raw.Search(start + int64(finest))
	}
	return out, nil
}

// Find is the series a selector names, at least one.
func Find(st *store.Store, selector series.Selector) ([]store.Series, error) {
	found := st.List(selector)
	if len(found) > 0 {
		return found, nil
	}
	if near := nearest(st, selector.String()); near != "" {
		return nil, refuse("unknown_series", "no series matches %q; near it are %s", selector, near)
	}
	return nil, refuse("unknown_series", "no series matches %q; there are no series here yet", selector)
}

// fittingWidth is the narrowest usual width that cuts the range into at most 400.
func fittingWidth(r time.Duration) time.Duration {
	usual := []time.Duration{
		10 * time.Second, 30 * time.Second, time.Minute, 5 * time.Minute, 15 * time.Minute, 30 * time.Minute,
		time.Hour, 3 * time.Hour, 6 * time.Hour, 12 * time.Hour, 24 * time.Hour,
	}
	for _, w := range usual {
		if r <= 400*w {
			return w
		}
	}
	return 7 * 24 * time.Hour
}

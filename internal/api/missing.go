package api

import (
	"slices"
	"strings"
	"time"

	"nexocumula/client"
	"nexocumula/internal/core/gap"
	"nexocumula/internal/core/series"
	"nexocumula/internal/query"
	"nexocumula/internal/store/records"
)

// missing says what is missing of the series of an answer, and why.
type missing struct {
	gaps     records.Gaps
	from, to time.Time
	asked    int
	all      map[series.Path][]records.Gap // of all series, once many were asked for
}

const (
	oneByOne    = 20  // series that are looked up one by one, before the gaps of all are read
	mostMissing = 500 // gaps that are told of a series
)

// newMissing returns nil for an answer about groups or calculations: those name the series that are silent.
func (h handlers) newMissing(q query.Windows) *missing {
	if q.Across != nil || len(q.Calculations) > 0 {
		return nil
	}
	return &missing{gaps: h.Records.Gaps}
}

// head takes over which time the answer is about.
func (m *missing) head(head query.Head) {
	if m != nil {
		m.from, m.to = head.From, head.To
	}
}

// of returns the gaps of a series that is not wholly there.
func (m *missing) of(s query.SeriesRows) ([]records.Gap, error) {
	if m == nil || s.Coverage >= 1 || !s.Shift.IsZero() {
		return nil, nil
	}
	path := series.Path(s.Name)
	if m.all != nil {
		return m.all[path], nil
	}
	if m.asked++; m.asked <= oneByOne {
		return m.gaps.Between(m.from, m.to, []series.Path{path})
	}
	found, err := m.gaps.Between(m.from, m.to, nil)
	if err != nil {
		return nil, err
	}
	m.all = map[series.Path][]records.Gap{}
	for _, g := range found {
		m.all[g.Series] = append(m.all[g.Series], g)
	}
	return m.all[path], nil
}

func missingList(all []records.Gap) (out []client.Missing) {
	for _, g := range all[:min(len(all), mostMissing)] {
		out = append(out, missingOf(g))
	}
	return out
}

// causesWithin names the causes of gaps that reach into a window, in words. What is missing of readings or of a tier only
// counts where the window is empty.
func causesWithin(all []records.Gap, from, to int64, empty bool) string {
	var out []string
	for _, g := range all {
		end := to
		if !g.To.IsZero() {
			end = g.To.UnixNano()
		}
		if g.From.UnixNano() >= to || end <= from || g.Of != "" && !empty {
			continue
		}
		words := gap.Cause(g.Cause).Words()
		if !slices.Contains(out, words) {
			out = append(out, words)
		}
	}
	return strings.Join(out, ", ")
}

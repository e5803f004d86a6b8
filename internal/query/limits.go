package query

import (
	"errors"
	"fmt"

	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
	"nexocumula/internal/core/window"
)

// What one query may hold at once, whatever the configuration allows it to answer: so that
// none takes more than about a hundred megabytes.
const (
	mostWindows  = 150_000
	mostSegments = 250_000
	mostCells    = 2_000_000 // windows times stats of one series
	mostSketched = 20_000    // segments that each hold a sketch
	mostKept     = 3_000_000 // readings of a series, for percentiles
)

// size counts what the query asks for before anything of it is made.
type size struct {
	windows, series, shifts, stats int
}

func (q Windows) check(s size, src Source) error {
	rows := s.windows * s.series * s.shifts
	switch {
	case rows > src.Limits.MaxRows:
		return refuse("too_large", "%d windows of %d series are %d rows; at most %d rows and %d series are answered at once: ask for a shorter range, %s, or fewer series",
			s.windows, s.series*s.shifts, rows, src.Limits.MaxRows, src.Limits.MaxSeries, q.fewer())
	case s.windows*s.stats > mostCells:
		return refuse("too_large",
			"%d windows of %d stats are %d numbers of one series; at most %d are answered at once: ask for fewer stats or a shorter range",
			s.windows, s.stats, s.windows*s.stats, mostCells)
	}
	return nil
}

// fewer says what makes fewer windows.
func (q Windows) fewer() string {
	if !q.Grid.Stride.IsZero() {
		return fmt.Sprintf("a longer stride than %s, which is from one window's start to the next", q.Grid.Stride)
	}
	return fmt.Sprintf("a wider width than %s", q.Grid.Width)
}

// statsAsked returns how many columns a window has.
func (q Windows) statsAsked() int { return len(q.Stats) + len(q.Inputs) + len(q.Calculations) }

// cut makes the windows, of which there may be so many for so many series.
func (q Windows) cut(src Source, series int) ([]window.Window, error) {
	most := min(mostWindows, max(1, src.Limits.MaxRows/max(1, series)))
	windows, err := q.Grid.Cut(q.Range, most)
	var many *window.TooMany
	switch {
	case errors.As(err, &many) && !many.Pieces:
		if err := q.check(size{many.Windows, series, 1, q.statsAsked()}, src); err != nil {
			return nil, err
		}
		return nil, refuse("too_large",
			"the range has about %d windows; at most %d are answered at once: ask for a shorter range or %s",
			many.Windows, most, q.fewer())
	case errors.As(err, &many):
		return nil, refuse("too_large", "%v", err)
	case err != nil:
		return nil, refuse("range", "%v", err)
	}
	return windows, nil
}

// checkPlan refuses windows that are put together from too many parts.
func (q Windows) checkPlan(plan *window.Plan, series int, estimates bool, src Source) error {
	switch most := 20 * src.Limits.MaxRows; {
	case plan.Segments() > mostSegments:
		return refuse("too_large",
			"the windows have %d edges; at most %d are possible: ask for a shorter range or a wider stride",
			plan.Segments(), mostSegments)
	case plan.Merges()*series > most:
		return refuse("too_large",
			"%d overlapping windows are put together from %d parts, at most %d are possible: use a wider stride or a narrower width",
			len(plan.Windows), plan.Merges()*series, most)
	case estimates && plan.Segments() > mostSketched:
		return refuse("too_large",
			"%d windows with a sketch each are more than %d: ask for a shorter range or a wider width",
			plan.Segments(), mostSketched)
	case estimates && !plan.MultipleOf(quarter):
		return refuse("range",
			"sketches, which p95~ comes from, are of quarters of an hour; use widths and times that are multiples of 15m")
	}
	return nil
}

// narrow says what would work in place of a width that no tier fills.
func (q Windows) narrow(narrowest series.Tier, err error) error {
	finest := narrowest.Width()
	width := q.Grid.Width.Fixed
	if width%finest == 0 {
		return err
	}
	return fmt.Errorf("width %s cannot be answered exactly: only summaries of %s are kept here; use a multiple of it, such as %s, or ask the gateway, which has the readings",
		q.Grid.Width, span.Format(finest), span.Format(max(finest, width/finest*finest)))
}

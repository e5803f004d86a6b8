package rollup

import (
	"math"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
)

// Joiner reduces what comes in order of time, readings or summaries, span by span,
// and takes in what lies between them: the time a reading goes on to hold where no
// later one is, and the step from one reading to the next.
type Joiner struct {
	def  *series.Definition
	need Need

	known bool // there is a reading before; what follows is of it
	last  float64
	at    int64

	now          int64 // nothing is known of what comes after it
	from, cursor int64 // of the span being reduced
	sum          Summary
}

// NewJoiner reduces a series. Only what need says is sure to be in the summaries that
// come out, and only those columns need to be in the blocks that go in.
func NewJoiner(def *series.Definition, need Need) Joiner {
	return Joiner{def: def, need: need, now: math.MaxInt64}
}

// Now says that a reading holds until then and no further, whatever comes.
func (j *Joiner) Now(t int64) { j.now = t }

// Before says which reading was the last before everything that comes.
func (j *Joiner) Before(t int64, value float64) {
	j.known, j.last, j.at = true, value, t
}

// Latest returns the last reading so far.
func (j *Joiner) Latest() (at int64, value float64, ok bool) { return j.at, j.last, j.known }

// Begin starts a span.
func (j *Joiner) Begin(from int64) {
	j.from, j.cursor, j.sum = from, from, Summary{}
}

// End returns the summary of the span.
func (j *Joiner) End(to int64) Summary {
	j.holdUntil(to)
	return j.sum
}

func (j *Joiner) holdUntil(t int64) {
	if j.known {
		j.sum.holdFor(j.last, j.cursor, min(t, j.at+int64(j.def.FreshFor), j.now), j.def)
	}
	j.cursor = max(j.cursor, t)
}

// Add takes in the summary of from <= time < to, with at least one reading.
func (j *Joiner) Add(from, to int64, s Summary) {
	j.holdUntil(from)
	if j.known {
		s.step(j.last, s.First, j.def)
		s.Growing += time.Duration(s.FirstAt - j.at)
	}
	if j.sum.Count == 0 && j.sum.Covered == 0 {
		j.sum = s
	} else {
		j.sum.Absorb(&s)
	}
	j.known, j.last, j.at, j.cursor = true, s.Last, s.LastAt, to
}

// Readings takes in the rows i to k of a block of readings.
func (j *Joiner) Readings(b column.Block, i, k int) {
	if i == k {
		return
	}
	from, to := b.Times[i], b.Times[k-1]+1
	j.Add(from, to, Fold(b.Rows(i, k), from, to, j.def))
}

// Summaries takes in the rows i to k of a block of summaries of windows width long,
// whose ends are multiples of it; a row may begin inside its window.
func (j *Joiner) Summaries(b column.Block, i, k int, width int64) {
	if i == k {
		return
	}
	last := b.Times[k-1]
	j.Add(b.Times[i], last-last%width+width, j.reduce(b, i, k, width))
}

// reduce returns the summary of the rows i to k of a block together. Hot: column by column,
// and only those that are needed.
func (j *Joiner) reduce(b column.Block, i, k int, width int64) (s Summary) {
	col := func(c int) []float64 { return b.Cols[c][i:k] }
	times, n := b.Times[i:k], k-i
	counts := col(ColCount)
	s.Count = sum(counts)
	if j.need.Has(ColMean) {
		if s.Mean = col(ColMean)[0]; n > 1 {
			s.Mean = weighted(col(ColMean), counts, s.Count)
		}
	}
	if j.need.Has(ColM2) {
		s.M2 = scatter(col(ColM2), col(ColMean), counts, s.Mean)
	}
	if j.need.Has(ColMin) {
		at := lowest(col(ColMin))
		s.Min = col(ColMin)[at]
		if j.need.Has(ColMinAt) {
			s.MinAt = times[at] + int64(col(ColMinAt)[at])
		}
	}
	if j.need.Has(ColMax) {
		at := highest(col(ColMax))
		s.Max = col(ColMax)[at]
		if j.need.Has(ColMaxAt) {
			s.MaxAt = times[at] + int64(col(ColMaxAt)[at])
		}
	}
	// Which summary is first and last is told by its times; without them by its window.
	s.FirstAt, s.LastAt = times[0], times[n-1]
	if j.need.Has(ColFirst) {
		s.First = col(ColFirst)[0]
	}
	if j.need.Has(ColFirstAt) {
		s.FirstAt += int64(col(ColFirstAt)[0])
	}
	if j.need.Has(ColLast) {
		s.Last = col(ColLast)[n-1]
	}
	if j.need.Has(ColLastAt) {
		s.LastAt += int64(col(ColLastAt)[n-1])
	}
	if j.need.Has(ColCovered) {
		j.covered(&s, b, i, k, width)
	}
	if j.def.Kind != series.Gauge {
		j.ofKind(&s, b.Rows(i, k))
	}
	s.Growing = time.Duration(s.LastAt - s.FirstAt)
	return s
}

// covered takes in what the rows cover, and between them what their last readings do.
func (j *Joiner) covered(s *Summary, b column.Block, i, k int, width int64) {
	c := b.Cols
	states := j.def.Kind == series.State && j.need.Has(ColStates)
	held := j.need.Has(ColHeld)
	endOf := func(t int64) int64 { return t - t%width + width }
	end := endOf(b.Times[i])
	for ; i < k; i++ {
		if held {
			s.hold(c[ColHeld][i], time.Duration(c[ColCovered][i]))
		} else {
			s.Covered += time.Duration(c[ColCovered][i])
		}
		if states {
			s.States = statesOf(b, i, s.States)
		}
		if i+1 == k {
			return
		}
		next := b.Times[i+1]
		if next == end { // neighbours, as nearly always
			end += width
			continue
		}
		s.holdFor(c[ColLast][i], end, min(next, b.Times[i]+int64(c[ColLastAt][i])+int64(j.def.FreshFor)), j.def)
		end = endOf(next)
	}
}

func (j *Joiner) ofKind(s *Summary, b column.Block) {
	c := b.Cols
	switch j.def.Kind {
	case series.Bearing:
		if j.need.Has(ColNorth) {
			s.North, s.East = sum(c[ColNorth]), sum(c[ColEast])
		}
	case series.Counter:
		if j.need.Has(ColIncrease) {
			s.Increase, s.Restarts = sum(c[ColIncrease]), sum(c[ColRestarts])
			j.steps(s, b)
		}
	case series.State:
		if j.need.Has(ColChanges) {
			s.Changes = sum(c[ColChanges])
			j.steps(s, b)
		}
	}
}

func (j *Joiner) steps(s *Summary, b column.Block) {
	first, last := b.Cols[ColFirst], b.Cols[ColLast]
	for i := 1; i < len(first); i++ {
		s.step(last[i-1], first[i], j.def)
	}
}

func sum(v []float64) (s float64) {
	for _, x := range v {
		s += x
	}
	return s
}

// weighted returns the mean of v by weight, taken as distances from the first so that a
// large mean does not swallow a small spread.
func weighted(v, weight []float64, total float64) float64 {
	about, s := v[0], 0.0
	for i, x := range v {
		s += (x - about) * weight[i]
	}
	return about + s/total
}

// scatter returns the sum of squared distances from the mean of all.
func scatter(m2, mean, count []float64, all float64) (s float64) {
	for i, x := range m2 {
		d := mean[i] - all
		s += x + count[i]*d*d
	}
	return s
}

func lowest(v []float64) (at int) {
	low := math.Inf(1)
	for i, x := range v {
		if x < low {
			low, at = x, i
		}
	}
	return at
}

func highest(v []float64) (at int) {
	high := math.Inf(-1)
	for i, x := range v {
		if x > high {
			high, at = x, i
		}
	}
	return at
}

package window

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

// Stat is what a query computes per window: one of the names below, or one with a
// number after it, such as p95 or share:1.
type Stat struct {
	Name  string
	Value float64 // of duration and share the state, of a percentile the share in percent
}

// measure is what a stat's numbers are, and so what a change of unit does to them.
type measure int

const (
	aValue  measure = iota // of the series, such as 12.1 Cel; gaps can be filled with it
	aSpread                // a distance between values
	aSum                   // values added up
	aRate                  // a distance per second
	aNumber                // without the series' unit
	aTime                  // nanoseconds after the window's start
)

type statKind struct {
	name    string
	measure measure
	need    rollup.Need
	kinds   []series.Kind // that it has a meaning for; nil: all
	of      func(s *rollup.Summary, value float64, length time.Duration) float64
}

var (
	need     = rollup.Wants
	noAngles = []series.Kind{series.Gauge, series.Counter, series.State}
	covered  = need(rollup.ColCovered, rollup.ColLast, rollup.ColLastAt)
	held     = covered | need(rollup.ColHeld)
	grown    = need(rollup.ColIncrease, rollup.ColRestarts, rollup.ColFirst, rollup.ColFirstAt, rollup.ColLast, rollup.ColLastAt)
	changed  = need(rollup.ColChanges, rollup.ColFirst, rollup.ColLast)
	inState  = covered | need(rollup.ColStates)
	vector   = need(rollup.ColNorth, rollup.ColEast)
)

// The stats in the order in which they are shown. docs/engine.md says what each means.
var kinds = []statKind{
	{"count", aNumber, 0, nil, func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Count }},
	{"mean", aValue, need(rollup.ColMean) | vector, nil, func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Mean }},
	{"twa", aValue, held, noAngles, func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return unless(s.Covered == 0, s.Held) }},
	{"min", aValue, need(rollup.ColMin), noAngles, func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Min }},
	{"max", aValue, need(rollup.ColMax), noAngles, func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Max }},
	{"range", aSpread, need(rollup.ColMin, rollup.ColMax), noAngles, func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Max - s.Min }},
	{"sd", aSpread, need(rollup.ColMean, rollup.ColM2), noAngles, func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.SD() }},
	{"sum", aSum, need(rollup.ColMean), noAngles, func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Sum() }},
	{"first", aValue, need(rollup.ColFirst), nil, func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.First }},
	{"last", aValue, need(rollup.ColLast), nil, func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Last }},
	{"difference", aSpread, need(rollup.ColFirst, rollup.ColLast), noAngles, func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Last - s.First }},
	{"slope", aRate, need(rollup.ColFirst, rollup.ColLast, rollup.ColFirstAt, rollup.ColLastAt), noAngles, func(s *rollup.Summary, _ float64, _ time.Duration) float64 {
		return perSecond(s.Last-s.First, s.LastAt-s.FirstAt)
	}},
	{"increase", aSpread, grown, []series.Kind{series.Counter}, func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Increase }},
	{"rate", aRate, grown, []series.Kind{series.Counter}, func(s *rollup.Summary, _ float64, _ time.Duration) float64 {
		return perSecond(s.Increase, s.LastAt-s.Since)
	}},
	{"restarts", aNumber, grown, []series.Kind{series.Counter}, func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Restarts }},
	{"changes", aNumber, changed, []series.Kind{series.State}, func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Changes }},
	{"duration", aNumber, inState, []series.Kind{series.State}, func(s *rollup.Summary, v float64, _ time.Duration) float64 {
		return unless(s.Covered == 0, s.States.Of(v)/float64(time.Second))
	}},
	{"share", aNumber, inState, []series.Kind{series.State}, func(s *rollup.Summary, v float64, _ time.Duration) float64 {
		return unless(s.Covered == 0, s.States.Of(v)/float64(s.Covered))
	}},
	{"steadiness", aNumber, vector, []series.Kind{series.Bearing}, func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Steadiness() }},
	{"coverage", aNumber, covered, nil, func(s *rollup.Summary, _ float64, length time.Duration) float64 {
		return float64(s.Covered) / float64(length)
	}},
	{"min_at", aTime, need(rollup.ColMin, rollup.ColMinAt), noAngles, nil},
	{"max_at", aTime, need(rollup.ColMax, rollup.ColMaxAt), noAngles, nil},
	{"first_at", aTime, need(rollup.ColFirstAt), nil, nil},
	{"last_at", aTime, need(rollup.ColLastAt), nil, nil},
}

// percentile stands for p and a number, and estimate for one with ~ after it; their
// values come from readings and from sketches, not from summaries.
var (
	percentile = statKind{"p", aValue, 0, noAngles, nil}
	estimate   = statKind{"p~", aValue, 0, noAngles, nil}
)

func unless(not bool, v float64) float64 {
	if not {
		return math.NaN()
	}
	return v
}

func perSecond(v float64, ns int64) float64 {
	if ns <= 0 {
		return math.NaN()
	}
	return v / (float64(ns) / float64(time.Second))
}

func (s Stat) kind() *statKind {
	for i := range kinds {
		if kinds[i].name == s.Name {
			return &kinds[i]
		}
	}
	if s.Name == estimate.name {
		return &estimate
	}
	return &percentile
}

// withState are the stats that need to be told of which state.
func withState(name string) bool { return name == "duration" || name == "share" }

// Names are what ParseStats knows, for messages.
func Names() string {
	var names []string
	for _, k := range kinds {
		if withState(k.name) {
			names = append(names, k.name+":STATE")
		} else {
			names = append(names, k.name)
		}
	}
	return strings.Join(names, ", ") + ", or a percentile such as p95, from sketches p95~"
}

// ParseStats reads a comma-separated list; the empty text is mean, min, max, count
// and coverage.
func ParseStats(text string) ([]Stat, error) {
	if text == "" {
		text = "mean,min,max,count,coverage"
	}
	var out []Stat
	for _, one := range strings.Split(text, ",") {
		stat, err := parseStat(strings.TrimSpace(one))
		if err != nil {
			return nil, err
		}
		if slices.Contains(out, stat) {
			return nil, fmt.Errorf("stat %q is asked for twice", one)
		}
		out = append(out, stat)
	}
	return out, nil
}

func parseStat(text string) (Stat, error) {
	name, number, has := strings.Cut(text, ":")
	if digits, ok := strings.CutPrefix(text, "p"); ok && digits != "" {
		digits, estimated := strings.CutSuffix(digits, "~")
		if v, err := strconv.ParseFloat(digits, 64); err == nil && v >= 0 && v <= 100 {
			if estimated {
				return Stat{estimate.name, v}, nil
			}
			return Stat{percentile.name, v}, nil
		}
	}
	for _, k := range kinds {
		if k.name != name || has != withState(name) {
			continue
		}
		if !has {
			return Stat{Name: name}, nil
		}
		v, err := strconv.ParseFloat(number, 64)
		if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
			return Stat{}, fmt.Errorf("stat %q: a state is a number, as in %s:1", text, name)
		}
		return Stat{name, v}, nil
	}
	if withState(text) {
		return Stat{}, fmt.Errorf("stat %q needs to be told of which state, as in %s:1", text, text)
	}
	return Stat{}, fmt.Errorf("stat %q is not known; use some of %s", text, Names())
}

// String is the text ParseStats reads.
func (s Stat) String() string {
	number := strconv.FormatFloat(s.Value, 'g', -1, 64)
	switch {
	case s.IsPercentile():
		return "p" + number
	case s.IsEstimate():
		return "p" + number + "~"
	case withState(s.Name):
		return s.Name + ":" + number
	}
	return s.Name
}

// IsPercentile reports a stat that only readings can tell.
func (s Stat) IsPercentile() bool { return s.Name == percentile.name }

// IsEstimate reports a percentile that comes from sketches.
func (s Stat) IsEstimate() bool { return s.Name == estimate.name }

// IsTime reports a stat that is a time, given in nanoseconds after its window's start.
func (s Stat) IsTime() bool { return s.kind().measure == aTime }

// HasUnit reports a stat whose numbers change with the unit of the series.
func (s Stat) HasUnit() bool { return s.kind().measure < aNumber }

// For reports whether the stat has a meaning for series of a kind.
func (s Stat) For(kind series.Kind) bool {
	k := s.kind()
	return k.kinds == nil || slices.Contains(k.kinds, kind)
}

// OfOneKind reports a stat that only series of one kind have.
func (s Stat) OfOneKind() bool { return len(s.kind().kinds) == 1 }

// Kinds are the kinds of series that the stat is for, as text.
func (s Stat) Kinds() string {
	var out []string
	for _, k := range s.kind().kinds {
		out = append(out, string(k))
	}
	return strings.Join(out, ", ")
}

// Need is what a Reducer must be given for the stats. Every answer tells its coverage,
// and where a value is carried from.
func Need(stats []Stat, kind series.Kind) rollup.Need {
	out := need(rollup.ColCount) | covered
	for _, s := range stats {
		if !s.For(kind) {
			continue
		}
		n := s.kind().need
		if s.Name == "mean" && kind != series.Bearing {
			n = need(rollup.ColMean) // the vector's columns are other things there
		}
		out |= n
	}
	return out
}

// formula computes a stat of one window; NaN where it has no meaning: the spread of one
// reading, the lowest of a circle's angles, anything but counts without data.
type formula func(sum *rollup.Summary, w *Window) float64

// formula is the stat's for series of a kind, found once and not for each window.
func (s Stat) formula(kind series.Kind) formula {
	k := s.kind()
	if !s.For(kind) || s.IsPercentile() || s.IsEstimate() {
		return func(*rollup.Summary, *Window) float64 { return math.NaN() }
	}
	of := func(sum *rollup.Summary, w *Window) float64 { return k.of(sum, s.Value, w.Length()) }
	switch {
	case k.measure == aTime:
		of = func(sum *rollup.Summary, w *Window) float64 { return float64(timeOf(s.Name, sum) - w.From) }
	case s.Name == "mean" && kind == series.Bearing:
		of = func(sum *rollup.Summary, _ *Window) float64 { return sum.Direction() }
	}
	if k.measure == aNumber && s.Name != "steadiness" || s.Name == "twa" {
		return of // these say something of windows without a reading as well
	}
	return func(sum *rollup.Summary, w *Window) float64 {
		if sum.Count == 0 {
			return math.NaN()
		}
		return of(sum, w)
	}
}

func timeOf(name string, sum *rollup.Summary) int64 {
	switch name {
	case "min_at":
		return sum.MinAt
	case "max_at":
		return sum.MaxAt
	case "first_at":
		return sum.FirstAt
	}
	return sum.LastAt
}

// Convert gives a stat's number in a unit that is scale times as fine and begins
// offset further down: value·scale + offset.
func (s Stat) Convert(v, scale, offset, count float64) float64 {
	switch s.kind().measure {
	case aValue:
		return v*scale + offset
	case aSpread, aRate:
		return v * scale
	case aSum:
		return v*scale + offset*count
	}
	return v
}

// Quantile is the p-th percentile of values in ascending order, between neighbours by
// a straight line: definition 7 of Hyndman and Fan, Sample Quantiles (1996).
func Quantile(sorted []float64, p float64) float64 {
	if len(sorted) == 0 {
		return math.NaN()
	}
	at := p / 100 * float64(len(sorted)-1)
	i := int(at)
	if i+1 >= len(sorted) {
		return sorted[len(sorted)-1]
	}
	return sorted[i] + (at-float64(i))*(sorted[i+1]-sorted[i])
}

package window

import (
	"math"
	"slices"
	"strings"
	"time"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/unit"
)

// Stat is a figure that a query computes per window: one of the names below, or one with
// something after it, such as p95, share:1, rate/h or above_longest:8.
type Stat struct {
	Name  string
	Value float64       // of duration and share the state, of a percentile the share in percent, of a condition what it compares with
	High  float64       // of between, its other end
	Per   time.Duration // of a rate, the time it is for; 0: a second
	Asked string        // the name used in the query; "": the name that String returns
}

// measure is the dimension of a stat's numbers, which decides how units convert.
type measure int

const (
	aValue   measure = iota // of the series, such as 12.1 Cel; gaps can be filled with it
	aSpread                 // a distance between values
	aSum                    // values added up
	aRate                   // a distance per time
	aProduct                // values times seconds
	aSecond                 // seconds
	aShare                  // 0 to 1
	aNumber                 // without a unit
	aTime                   // nanoseconds since 1970
)

// argument is the kind of text that follows a stat's name.
type argument int

const (
	nothing argument = iota
	aState           // :1
	aBound           // :8.5
	aBand            // :6..9
	perTime          // /h, or nothing
)

type statKind struct {
	name    string
	measure measure
	takes   argument
	need    rollup.Need
	kinds   []series.Kind // that it has a meaning for; nil: all
	of      func(s *rollup.Summary, value float64, length time.Duration) float64
}

var (
	need     = rollup.Wants
	noAngles = []series.Kind{series.Gauge, series.Counter, series.State}
	covered  = need(rollup.ColCovered, rollup.ColLast, rollup.ColLastAt)
	held     = covered | need(rollup.ColHeld)
	grown    = need(rollup.ColIncrease, rollup.ColRestarts, rollup.ColFirst, rollup.ColFirstAt, rollup.ColLast,
		rollup.ColLastAt)
	changed = need(rollup.ColChanges, rollup.ColFirst, rollup.ColLast)
	inState = covered | need(rollup.ColStates)
	vector  = need(rollup.ColNorth, rollup.ColEast)
	banded  = covered | need(rollup.ColMin, rollup.ColMax, rollup.ColFirst, rollup.ColFirstAt)
)

// The stats in the order in which they are shown. docs/engine.md says what each means.
var kinds = append([]statKind{
	{"count", aNumber, nothing, 0, nil, func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Count }},
	{
		"mean", aValue, nothing, need(rollup.ColMean) | vector, nil,
		func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Mean },
	},
	{
		"twa", aValue, nothing, held, noAngles,
		func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return unless(s.Covered == 0, s.Held) },
	},
	{
		"min", aValue, nothing, need(rollup.ColMin), noAngles,
		func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Min },
	},
	{
		"max", aValue, nothing, need(rollup.ColMax), noAngles,
		func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Max },
	},
	{
		"range", aSpread, nothing, need(rollup.ColMin, rollup.ColMax), noAngles,
		func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Max - s.Min },
	},
	{
		"sd", aSpread, nothing, need(rollup.ColMean, rollup.ColM2), noAngles,
		func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.SD() },
	},
	{
		"sum", aSum, nothing, need(rollup.ColMean), noAngles,
		func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Sum() },
	},
	{"integral", aProduct, nothing, held, []series.Kind{series.Gauge}, func(s *rollup.Summary, _ float64, _ time.Duration) float64 {
		return unless(s.Covered == 0, s.Held*s.Covered.Seconds())
	}},
	{
		"first", aValue, nothing, need(rollup.ColFirst), nil,
		func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.First },
	},
	{
		"last", aValue, nothing, need(rollup.ColLast), nil,
		func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Last },
	},
	{
		"difference", aSpread, nothing, need(rollup.ColFirst, rollup.ColLast), noAngles,
		func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Last - s.First },
	},
	{"slope", aRate, perTime, need(rollup.ColFirst, rollup.ColLast, rollup.ColFirstAt, rollup.ColLastAt), noAngles, func(s *rollup.Summary, _ float64, _ time.Duration) float64 {
		return perSecond(s.Last-s.First, s.LastAt-s.FirstAt)
	}},
	{
		"increase", aSpread, nothing, grown, []series.Kind{series.Counter},
		func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return s.Increase },
	},
	{"rate", aRate, perTime, grown, []series.Kind{series.Counter}, func(s *rollup.Summary, _ float64, _ time.Duration) float64 {
		return perSecond(s.Increase, int64(s.Growing))
	}},
	{
		"restarts", aNumber, nothing, grown, []series.Kind{series.Counter},
		func(s *rollup.Summary, _ float64, _ time.Duration) float64 { return unless(s.Count == 0, s.Restarts) },
	},
	{"changes", aNumber, nothing, covered | changed, []series.Kind{series.State}, func(s *rollup.Summary, _ float64, _ time.Duration) float64 {
		return unless(s.Count == 0 && s.Covered == 0, s.Changes)
	}},
	{"duration", aSecond, aState, inState, []series.Kind{series.State}, func(s *rollup.Summary, v float64, _ time.Duration) float64 {
		return unless(s.Covered == 0, s.States.Of(v)/float64(time.Second))
	}},
	{"share", aShare, aState, inState, []series.Kind{series.State}, func(s *rollup.Summary, v float64, _ time.Duration) float64 {
		return unless(s.Covered == 0, s.States.Of(v)/float64(s.Covered))
	}},
	{"steadiness", aShare, nothing, vector, []series.Kind{series.Bearing}, func(s *rollup.Summary, _ float64, _ time.Duration) float64 {
		return unless(s.Count == 0, s.Steadiness())
	}},
	{"coverage", aShare, nothing, covered, nil, func(s *rollup.Summary, _ float64, length time.Duration) float64 {
		return float64(s.Covered) / float64(length)
	}},
	{"min_at", aTime, nothing, need(rollup.ColMin, rollup.ColMinAt), noAngles, nil},
	{"max_at", aTime, nothing, need(rollup.ColMax, rollup.ColMaxAt), noAngles, nil},
	{"first_at", aTime, nothing, need(rollup.ColFirstAt), nil, nil},
	{"last_at", aTime, nothing, need(rollup.ColLastAt), nil, nil},
}, conditions()...)

// conditions returns the stats of how long, how often and when a value was in a band.
func conditions() (out []statKind) {
	for _, c := range []struct {
		name  string
		takes argument
	}{{"above", aBound}, {"below", aBound}, {"between", aBand}} {
		for _, of := range []struct {
			suffix  string
			measure measure
		}{
			{"", aSecond}, {"_share", aShare}, {"_times", aNumber}, {"_longest", aSecond}, {"_first", aTime},
			{"_last", aTime},
		} {
			out = append(out, statKind{
				c.name + of.suffix, of.measure, c.takes, banded, []series.Kind{series.Gauge}, nil,
			})
		}
	}
	return out
}

// percentile stands for p and a number, and estimate for one with ~ after it; their
// values come from readings and from sketches, not from summaries.
var (
	percentile = statKind{"p", aValue, nothing, 0, noAngles, nil}
	estimate   = statKind{"p~", aValue, nothing, 0, noAngles, nil}
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

// IsPercentile reports a stat that only readings can tell.
func (s Stat) IsPercentile() bool { return s.Name == percentile.name }

// IsEstimate reports a percentile that comes from sketches.
func (s Stat) IsEstimate() bool { return s.Name == estimate.name }

// IsTime reports a stat that is a time.
func (s Stat) IsTime() bool { return s.kind().measure == aTime }

// IsCondition reports a stat of how long, how often or when values were in a band:
// readings tell it exactly.
func (s Stat) IsCondition() bool { return s.kind().need == banded && s.kind().of == nil }

// NeedsReadings reports a stat of which summaries tell nothing.
func (s Stat) NeedsReadings() bool {
	return s.IsPercentile() || s.IsCondition() && !s.bounded()
}

// Bounded reports a stat of which summaries tell the least and the most.
func (s Stat) Bounded() bool { return s.bounded() }

// WhyUnknown says why there can be no number although there are readings, or time that they speak for; "" of stats that
// always have one then, or mean nothing without it.
func (s Stat) WhyUnknown() string {
	switch {
	case s.IsEstimate():
		return "not all of the readings are in sketches yet"
	case s.IsPercentile():
		return "the readings themselves are not here any more, or were thinned"
	case s.kind().takes == aState:
		return "there were more states than summaries tell apart"
	case s.IsCondition() && !s.IsTime():
		return "summaries tell only bounds of it"
	}
	return ""
}

// bounded reports a condition's stat of which summaries tell the least and the most.
func (s Stat) bounded() bool {
	return s.IsCondition() && !s.IsTime() && !strings.HasSuffix(s.Name, "_times")
}

// HasUnit reports a stat whose numbers change with the unit of the series.
func (s Stat) HasUnit() bool { return s.kind().measure <= aProduct }

// IsValue reports a stat that is a value of the series itself.
func (s Stat) IsValue() bool { return s.kind().measure == aValue }

// IsProduct reports a stat of values times seconds.
func (s Stat) IsProduct() bool { return s.kind().measure == aProduct }

// Unit of the stat's numbers, of a series in a unit.
func (s Stat) Unit(of string) string {
	switch s.kind().measure {
	case aValue, aSpread, aSum:
		return of
	case aRate:
		return unit.Per(of, s.perText())
	case aProduct:
		symbol, _ := unit.TimesSecond(of)
		return symbol
	case aSecond:
		return "s"
	case aShare:
		return "/"
	}
	return ""
}

// For reports whether the stat has a meaning for series of a kind.
func (s Stat) For(kind series.Kind) bool {
	k := s.kind()
	return k.kinds == nil || slices.Contains(k.kinds, kind)
}

// Kinds returns the kinds of series that the stat is for, as text.
func (s Stat) Kinds() string {
	var out []string
	for _, k := range s.kind().kinds {
		out = append(out, string(k))
	}
	return strings.Join(out, ", ")
}

// Need returns the columns that a Reducer needs for the stats. Every answer tells its coverage.
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

// formula computes a stat of one window, of which so much time counts; NaN where it has no
// meaning: the spread of one reading, anything but counts without data.
type formula func(sum *rollup.Summary, length time.Duration) float64

// formula returns the stat's for series of a kind, found once and not for each window; nil of
// those that come from elsewhere than a summary.
func (s Stat) formula(kind series.Kind) formula {
	k := s.kind()
	if !s.For(kind) {
		return func(*rollup.Summary, time.Duration) float64 { return math.NaN() }
	}
	if k.of == nil {
		return nil
	}
	of := func(sum *rollup.Summary, length time.Duration) float64 { return k.of(sum, s.Value, length) }
	switch {
	case s.Name == "mean" && kind == series.Bearing:
		of = func(sum *rollup.Summary, _ time.Duration) float64 { return sum.Direction() }
	case s.Per > 0:
		scale := s.Per.Seconds()
		of = func(sum *rollup.Summary, length time.Duration) float64 { return k.of(sum, s.Value, length) * scale }
	}
	if k.measure >= aProduct || s.Name == "twa" {
		return of // these say something of windows without a reading as well
	}
	return func(sum *rollup.Summary, length time.Duration) float64 {
		if sum.Count == 0 {
			return math.NaN()
		}
		return of(sum, length)
	}
}

// timeOf returns the stat of a summary with readings, as a time.
func (s Stat) timeOf(sum *rollup.Summary) int64 {
	switch s.Name {
	case "min_at":
		return sum.MinAt
	case "max_at":
		return sum.MaxAt
	case "first_at":
		return sum.FirstAt
	}
	return sum.LastAt
}

// condition returns the condition of the stat, for values whose unit's numbers are value·scale + offset.
func (s Stat) condition(c unit.Conversion) condition {
	in := func(v float64) float64 { return (v - c.Offset) / c.Scale }
	switch s.kind().takes {
	case aBand:
		return condition{in(s.Value), in(s.High)}
	default:
		if strings.HasPrefix(s.Name, "above") {
			return above(in(s.Value))
		}
		return below(in(s.Value))
	}
}

// ofSpells returns a condition's stat of what it found; covered is how much of the time readings
// speak for.
func (s Stat) ofSpells(of *spells, covered time.Duration) float64 {
	if covered == 0 {
		return math.NaN()
	}
	_, suffix, _ := strings.Cut(s.Name, "_")
	switch suffix {
	case "share":
		return float64(of.held) / float64(covered)
	case "times":
		return float64(of.times)
	case "longest":
		return float64(of.longest) / float64(time.Second)
	}
	return float64(of.held) / float64(time.Second)
}

// spellTime returns when a condition first or last held; 0: never.
func (s Stat) spellTime(of *spells) int64 {
	if strings.HasSuffix(s.Name, "_first") {
		return of.first
	}
	return of.last
}

// Convert gives a stat's number in a unit that is scale times as fine and begins
// offset further down: value·scale + offset.
func (s Stat) Convert(v, scale, offset, count float64) float64 {
	switch s.kind().measure {
	case aValue:
		return v*scale + offset
	case aSpread, aRate, aProduct:
		return v * scale
	case aSum:
		return v*scale + offset*count
	}
	return v
}

// Quantile returns the p-th percentile of values in ascending order, between neighbours by
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

var perNames = map[string]time.Duration{"s": time.Second, "min": time.Minute, "h": time.Hour, "d": 24 * time.Hour}

func (s Stat) perText() string {
	for name, d := range perNames {
		if d == s.Per {
			return name
		}
	}
	return "s"
}

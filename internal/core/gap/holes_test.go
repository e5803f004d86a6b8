package gap

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const second = int64(time.Second)

var minutely = Rhythm{FreshFor: 10 * time.Second}

// holes is the definition: what lies between neighbours of all readings.
func holes(times []int64, rhythm Rhythm) (out []Span) {
	times = slices.Compact(slices.Sorted(slices.Values(times)))
	for i := 1; i < len(times); i++ {
		if s, ok := rhythm.Between(times[i-1], times[i]); ok {
			out = append(out, s)
		}
	}
	return out
}

// TestGapsAreThoseBetweenAllReadingsInWhateverOrderTheyCome brings readings early, late and twice, in batches, with
// silences that are noticed before they end.
func TestGapsAreThoseBetweenAllReadingsInWhateverOrderTheyCome(t *testing.T) {
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 4))
		var all []int64
		var known []Span
		var seen Seen
		now := int64(1_000_000)
		for range 1 + r.IntN(40) {
			var times []int64
			for range 1 + r.IntN(8) {
				now += r.Int64N([]int64{5, 15, 60, 400}[r.IntN(4)])
				at := now
				if r.IntN(3) == 0 {
					at = 1_000_000 - 500 + r.Int64N(now-1_000_000+500) // late, maybe before the first
				}
				times = append(times, at*second)
			}
			slices.Sort(times)
			times = slices.Compact(times)
			if last := seen.Last; last != 0 && r.IntN(4) == 0 && !slices.ContainsFunc(known, Span.Open) {
				known = append(known, Span{From: last + int64(minutely.FreshFor)}) // the silence was noticed
			}
			found := After(seen, times, known, minutely)
			known = slices.DeleteFunc(known, func(s Span) bool { _, ok := found.Changed[s]; return ok })
			for _, left := range found.Changed {
				known = append(known, left...)
			}
			known = append(known, found.Made...)
			all = append(all, times...)
			seen = Seen{slices.Min(all), slices.Max(all)}
		}
		known = slices.DeleteFunc(known, Span.Open)
		// A silence that was noticed is one however short it was.
		short := func(s Span) bool { return s.To-s.From <= minutely.Patience()-int64(minutely.FreshFor) }
		known = slices.DeleteFunc(known, short)
		slices.SortFunc(known, func(a, b Span) int { return int(a.From/second - b.From/second) })
		require.Equal(t, append([]Span{}, holes(all, minutely)...), append([]Span{}, known...), "seed %d", seed)
	}
}

func TestAGapIsWhatMostOfItWas(t *testing.T) {
	off := Episode{100, 400, GatewayOff, "switched off"}
	down := Episode{0, 150, SourceDown, "connection refused"}
	for _, c := range []struct {
		name     string
		from, to int64
		given    []Episode
		want     Cause
		detail   string
	}{
		{"nothing was the matter", 0, 100, nil, DeviceSilent, ""},
		{"all of it", 150, 390, []Episode{off, down}, GatewayOff, "switched off"},
		{"the larger part", 0, 200, []Episode{off, down}, SourceDown, "connection refused"},
		{"too little of it", 0, 1000, []Episode{off, down}, DeviceSilent, ""},
		{"two of the same", 0, 1000, []Episode{down, {200, 700, SourceDown, "no route"}}, SourceDown, "no route"},
		{"what overlaps counts once", 0, 400, []Episode{down, down, down}, DeviceSilent, ""},
		{"equally long", 100, 150, []Episode{down, off}, GatewayOff, "switched off"},
	} {
		got := Explain(c.from, c.to, c.given)
		assert.Equal(t, c.want, got.Cause, c.name)
		assert.Equal(t, c.detail, got.Detail, c.name)
	}
}

func TestASeriesIsGivenTimeByItsRhythm(t *testing.T) {
	slow := Rhythm{FreshFor: time.Minute, Every: 5 * time.Minute}
	_, ok := slow.Between(0, int64(14*time.Minute))
	assert.False(t, ok, "two readings missed")
	s, ok := slow.Between(0, int64(16*time.Minute))
	assert.True(t, ok)
	assert.Equal(t, Span{int64(time.Minute), int64(16 * time.Minute)}, s, "coverage ends with what a reading speaks for")
}

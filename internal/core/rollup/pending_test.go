package rollup

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/series"
)

func starts(due []Window) (out []int64) {
	for _, w := range due {
		out = append(out, w.Start/second)
	}
	return out
}

func freshFor(d time.Duration) *series.Definition { return &series.Definition{FreshFor: d} }

func TestSketchesOfSeriesThatAskForThem(t *testing.T) {
	p := NewPending()
	p.Touch(1, &series.Definition{FreshFor: time.Minute, Sketch: true}, readings(1, 5, 5, 6, 2000, 7).Times, 0)
	var quarters []int64
	for _, w := range p.Due(10_000*second, false, 100) {
		if w.Sketch {
			quarters = append(quarters, w.Start/second)
		}
	}
	assert.Equal(t, []int64{0, 1800}, quarters)
}

func TestAWindowIsDueOnceItIsClosedAndQuiet(t *testing.T) {
	p := NewPending()
	p.Touch(1, freshFor(time.Minute), readings(1, 5, 12, 5).Times, 12*second)
	assert.Empty(t, p.Due(11*second, false, 100), "still open")
	assert.Empty(t, p.Due(12*second, false, 100), "closed, but a reading has just come")
	assert.Equal(t, []int64{0}, starts(p.Due(13*second, false, 100)))
	assert.Equal(t, []int64{10}, starts(p.Due(22*second, false, 100)))
	assert.Zero(t, p.Len())
}

func TestAWindowThatIsNeverQuietIsDueAllTheSame(t *testing.T) {
	p := NewPending()
	for now := 100 * second; now < 110*second; now += second / 2 {
		p.Touch(1, freshFor(time.Minute), readings(1, 5).Times, now)
		assert.Empty(t, p.Due(now, false, 100))
	}
	p.Touch(1, freshFor(time.Minute), readings(1, 5).Times, 110*second)
	assert.Equal(t, []int64{0}, starts(p.Due(110*second, false, 100)))
	p.Touch(1, freshFor(time.Minute), readings(1, 5).Times, 120*second)
	assert.Equal(t, []int64{0}, starts(p.Due(120*second, true, 100)), "in a hurry nothing rests")
}

func TestALookInVainIsNotRepeatedUntilAWindowCanBeDue(t *testing.T) {
	p := NewPending()
	p.Touch(1, freshFor(time.Minute), readings(1, 5).Times, 2*second)
	assert.Empty(t, p.Due(3*second, false, 100))
	assert.Equal(t, 12*second, p.earliest)
	p.Touch(2, freshFor(time.Minute), readings(-20, 5).Times, 4*second)
	assert.Equal(t, 5*second, p.earliest, "an older window is due before")
	assert.Equal(t, []int64{-20}, starts(p.Due(5*second, false, 100)))
	assert.Equal(t, []int64{0}, starts(p.Due(12*second, false, 100)))
}

func TestPendingWindowsSurviveARestart(t *testing.T) {
	p := NewPending()
	p.Touch(7, freshFor(time.Minute), readings(1, 5, 70, 5).Times, 0)
	state, err := p.Save()
	require.NoError(t, err)
	q := NewPending()
	require.NoError(t, q.Load(state, 0))
	assert.Equal(t, p.Due(1000*second, false, 100), q.Due(1000*second, false, 100))
	assert.NoError(t, q.Load(nil, 0))
	assert.ErrorContains(t, q.Load([]byte("x"), 0), "saved list of open windows")
}

func TestNoMoreAreDueThanAskedFor(t *testing.T) {
	p := NewPending()
	p.Touch(1, freshFor(time.Minute), readings(1, 5, 12, 5, 23, 5).Times, 0)
	all := append(p.Due(1000*second, false, 2), p.Due(1000*second, false, 2)...)
	assert.ElementsMatch(t, []int64{0, 10, 20}, starts(all))
	assert.Zero(t, p.Len())
}

func TestWhatIsOverAndPendingIsOneStretchOfASeries(t *testing.T) {
	p := NewPending()
	at := func(s int) int64 { return int64(s) * int64(time.Second) }
	def := &series.Definition{Kind: series.Gauge, FreshFor: time.Minute, Sketch: true}
	p.Touch(1, def, []int64{at(5), at(47), at(3600)}, at(3603))
	p.Touch(2, def, []int64{at(3600)}, at(3603))
	p.Follow([]Window{{Series: 1, Tier: series.TenSecond, Start: 0}}, series.Tier(time.Hour), 1, at(3603))
	over := func(now int64, tiers ...series.Tier) map[uint32]Stretch {
		return p.Over(func(w Window) bool { return w.Closed(now) && (tiers == nil || slices.Contains(tiers, w.Tier)) })
	}
	assert.Equal(t, map[uint32]Stretch{1: {0, at(3600)}}, over(at(3603)),
		"the hour is, the window that has begun in the next one is not, and sketches are another matter")
	assert.Equal(t, map[uint32]Stretch{1: {0, at(50)}}, over(at(3603), series.TenSecond))
	assert.Equal(t, map[uint32]Stretch{1: {0, at(3610)}, 2: {at(3600), at(3610)}}, over(at(3612)))
	assert.Empty(t, over(at(11), series.TenSecond), "what could not be made yet was not made before either")
	p.Drop(Window{Series: 1, Tier: series.Tier(time.Hour)})
	assert.Equal(t, []Window{
		{Series: 1, Tier: series.TenSecond},
		{Series: 1, Tier: series.TenSecond, Start: at(40)},
		{Series: 1, Tier: series.TenSecond, Start: at(3600)},
	}, p.Some(func(w Window) bool { return w.Series == 1 && !w.Sketch }))
}

func TestWhatHasJustEndedIsMadeBeforeThePast(t *testing.T) {
	p := NewPending()
	now := 100_000 * second
	for s := range uint32(300) {
		p.Touch(s, freshFor(time.Minute), []int64{int64(s) * 10 * second, 50_000 * second}, now)
	}
	all := map[Window]bool{}
	take := func(now int64) []Window {
		due := p.Due(now, false, 100)
		require.True(t, slices.IsSortedFunc(due, Window.compare))
		for _, w := range due {
			require.False(t, all[w], "%v is due twice", w)
			all[w] = true
		}
		return due
	}
	require.Len(t, take(now+2*second), 100)
	p.Touch(900, freshFor(time.Minute), []int64{now - 10*second}, now+second)
	again := Window{Series: 150, Tier: series.TenSecond, Start: 1500 * second} // touched while it waits its turn
	p.Touch(150, freshFor(time.Minute), []int64{1500 * second}, now+5*second)
	live := Window{Series: 900, Tier: series.TenSecond, Start: now - 10*second}
	assert.True(t, slices.Contains(take(now+5*second), live))
	for n := 100; n == 100; {
		n = len(take(now + 5*second))
	}
	assert.False(t, all[again], "it has to rest first")
	assert.Equal(t, []Window{again}, take(now+7*second))
	assert.Equal(t, 601, len(all))
	assert.Zero(t, p.Len())
}

func TestWindowsThatFollowOneAnotherAreSavedTogether(t *testing.T) {
	p := NewPending()
	for k := range int64(10_000) {
		p.Touch(uint32(1+k%3), freshFor(time.Minute), []int64{k * 10 * second}, 0)
	}
	state, err := p.Save()
	require.NoError(t, err)
	q := NewPending()
	for k := range int64(10_000) {
		q.Touch(1, freshFor(time.Minute), []int64{k * 10 * second}, 0)
	}
	short, err := q.Save()
	require.NoError(t, err)
	assert.Less(t, len(short), 100)
	for saved, want := range map[string]*Pending{string(state): p, string(short): q} {
		back := NewPending()
		require.NoError(t, back.Load([]byte(saved), 0))
		everything := func(Window) bool { return true }
		assert.Equal(t, want.Some(everything), back.Some(everything))
	}
	old := NewPending() // as it was written before
	require.NoError(t,
		old.Load([]byte(`[{"Series":7,"Tier":10000000000,"Start":0},{"Series":7,"Tier":0,"Sketch":true,"Start":0}]`),
			0))
	assert.Equal(t, 2, old.Len())
	assert.ErrorContains(t, old.Load([]byte(`[{"Series":7,"Tier":1,"Start":0,"Count":900000000}]`), 0), "more than")
}

// Late readings come to the same windows again and again: what is remembered of them does not grow.
func TestWhatIsRememberedOfWindowsIsBounded(t *testing.T) {
	p := NewPending()
	const windows = 3000
	for round := range 20 {
		for i := range int64(windows) {
			w := Window{Series: 1, Tier: series.Minute, Start: i * int64(series.Minute)}
			p.Drop(w)
			p.Restore([]Window{w}, int64(round)*second)
		}
		require.LessOrEqual(t, len(p.news), 2*windows)
	}
	over := p.OverNews(windows*int64(series.Minute)*2, func(Window) bool { return true })
	assert.Equal(t, map[uint32]Stretch{1: {0, windows * int64(series.Minute)}}, over)
	assert.Empty(t, p.news)
}

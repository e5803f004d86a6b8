package planner

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// device gives reads as long as they are not too long and touch none of its holes.
type device struct {
	longest int
	holes   map[int]bool
	asked   int
	refused int
}

func (d *device) gives(r Read) bool {
	d.asked++
	for a := r.First; a < r.end(); a++ {
		if d.holes[a] || r.Count > d.longest {
			d.refused++
			return false
		}
	}
	return true
}

// poll reads everything once, as the poller does.
func (d *device) poll(w Wish, f *Facts, now time.Time) (requests int, got map[int]bool) {
	before := d.asked
	got = map[int]bool{}
	var ask func(r Read)
	ask = func(r Read) {
		if d.gives(r) {
			f.DidGive(r)
			for _, i := range r.Values {
				got[i] = true
			}
			return
		}
		f.DidRefuse(r, now)
		if len(r.Values) == 1 {
			return
		}
		halves, over := w.Halves(r, f)
		ask(halves[0])
		ask(halves[1])
		if over != nil {
			if d.gives(*over) {
				f.DidGive(*over)
			} else {
				f.DidRefuse(*over, now)
			}
		}
	}
	for _, r := range w.Reads(f, now) {
		ask(r)
	}
	return d.asked - before, got
}

// least returns the fewest requests that somebody would need who knows the device, by trying
// the farthest reach of each read from the front.
func (d *device) least(values []Value) (n int) {
	sorted := slices.SortedFunc(slices.Values(values), func(a, b Value) int { return a.First - b.First })
	for i := 0; i < len(sorted); n++ {
		first, end := sorted[i].First, sorted[i].end()
		for i++; i < len(sorted); i++ {
			reach := max(end, sorted[i].end())
			if reach-first > d.longest {
				break
			}
			if anyIn(d.holes, end, sorted[i].First) {
				break
			}
			end = reach
		}
	}
	return n
}

func anyIn(holes map[int]bool, from, to int) bool {
	for a := from; a < to; a++ {
		if holes[a] {
			return true
		}
	}
	return false
}

func plain(values ...Value) Wish {
	return Wish{Values: values, Longest: 125, Holes: true, Request: 1, Word: 1e-6}
}

func TestPlansOfRandomDevicesBecomeTheFewestRequests(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	now := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	asked, least := 0, 0
	for range 200 {
		w, d := plain(), &device{longest: 4 + random.IntN(122), holes: map[int]bool{}}
		for at := random.IntN(50); len(w.Values) < 2+random.IntN(60); {
			v := Value{at, []int{1, 1, 2, 2, 4}[random.IntN(5)]}
			w.Values = append(w.Values, v)
			hole := []int{0, 0, 0, 1, 2, 10, 40}[random.IntN(7)]
			if random.IntN(3) == 0 {
				for a := v.end(); a < v.end()+hole; a++ {
					d.holes[a] = true
				}
			}
			at = v.end() + hole
		}
		f := &Facts{}
		var last int
		for range 40 {
			n, got := d.poll(w, f, now)
			require.Len(t, got, len(w.Values), "every value comes in every poll, also while the device is learned")
			last = n
		}
		asked += last
		least += d.least(w.Values)
	}
	t.Logf("%d requests, least %d", asked, least)
	assert.LessOrEqual(t, float64(asked)/float64(least), 1.05, "%d requests, least %d", asked, least)
}

func TestRegistersThatNobodyWantsAreReadOverOnlyWhereThatIsCheaperAndAllowed(t *testing.T) {
	w := plain(Value{0, 1}, Value{10, 1}, Value{90, 1})
	f := &Facts{}
	assert.Len(t, w.Reads(f, time.Now()), 1)
	w.Word = 0.02 // a slow line: 80 registers take longer than another request
	assert.Len(t, w.Reads(f, time.Now()), 2)
	w.Holes = false
	assert.Len(t, w.Reads(f, time.Now()), 3)
	assert.Len(t, Wish{
		Values:  []Value{{12, 2}, {10, 2}, {10, 1}},
		Longest: 125,
		Request: 1,
	}.Reads(f, time.Now()), 1, "neighbours, and one within another")
}

func TestARefusalStandsForADayAndIsTriedAgainOnce(t *testing.T) {
	w, d := plain(Value{0, 2}, Value{6, 2}), &device{longest: 125, holes: map[int]bool{3: true}}
	f, now := &Facts{}, time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	for range 5 {
		d.poll(w, f, now)
	}
	before := d.refused
	for range 1000 {
		n, _ := d.poll(w, f, now)
		assert.Equal(t, 2, n)
		now = now.Add(time.Minute)
	}
	assert.Equal(t, before, d.refused)
	for range 1000 {
		d.poll(w, f, now)
		now = now.Add(time.Minute)
	}
	assert.Equal(t, before+1, d.refused, "one try in the second day")
	d.holes = nil
	for range 1500 {
		d.poll(w, f, now)
		now = now.Add(time.Minute)
	}
	n, _ := d.poll(w, f, now)
	assert.Equal(t, 1, n, "the device was exchanged")
}

func TestAMissingValueIsTriedEverMoreRarelyUpToOnceADay(t *testing.T) {
	w, d := plain(Value{0, 1}, Value{1, 1}, Value{2, 1}), &device{longest: 125, holes: map[int]bool{1: true}}
	f, now := &Facts{}, time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	day := func() int {
		before := d.refused
		for range 24 * 60 {
			_, got := d.poll(w, f, now)
			require.Len(t, got, 2)
			now = now.Add(time.Minute)
		}
		return d.refused - before
	}
	assert.Less(t, day(), 20)
	day()
	assert.LessOrEqual(t, day(), 1)
	d.holes = nil
	for range 24 * 60 {
		d.poll(w, f, now)
		now = now.Add(time.Minute)
	}
	_, got := d.poll(w, f, now)
	assert.Len(t, got, 3)
	assert.Empty(t, f.Refused)
}

func TestALimitIsFoundWithinAFewPollsAndKeptWhenTriedAgain(t *testing.T) {
	w, d := plain(), &device{longest: 20}
	for i := range 60 {
		w.Values = append(w.Values, Value{i, 1})
	}
	f, now := &Facts{}, time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	for range 8 {
		d.poll(w, f, now)
	}
	n, _ := d.poll(w, f, now)
	assert.Equal(t, 3, n)
	now = now.Add(25 * time.Hour)
	before := d.refused
	for range 5 {
		d.poll(w, f, now)
	}
	n, _ = d.poll(w, f, now)
	assert.Equal(t, 3, n)
	assert.LessOrEqual(t, d.refused-before, 5)
	d.longest = 125
	now = now.Add(25 * time.Hour)
	d.poll(w, f, now)
	n, _ = d.poll(w, f, now)
	assert.Equal(t, 1, n, "it gives more than it did")
}

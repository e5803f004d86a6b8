package links_test

import (
	"log/slog"
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/links"
	"nexocumula/internal/store"
	"nexocumula/internal/store/records"
)

// night is a store and a history over it, with a clock of its own.
type night struct {
	t    *testing.T
	st   *store.Store
	h    *links.History
	now  time.Time
	path string
}

var dusk = time.Date(2026, 11, 3, 22, 0, 0, 0, time.UTC)

func begin(t *testing.T) *night {
	n := &night{t: t, now: dusk, path: filepath.Join(t.TempDir(), "store.db")}
	n.open()
	t.Cleanup(func() { assert.NoError(t, n.st.Close()) })
	return n
}

func (n *night) open() {
	var err error
	n.st, err = store.Open(n.path, slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(n.t, err)
	n.h, err = links.New(n.st.Links, func() time.Time { return n.now }, slog.New(slog.DiscardHandler))
	require.NoError(n.t, err)
}

// pass lets time pass, with a look every two seconds.
func (n *night) pass(length time.Duration, state func(since time.Duration) links.State) {
	for since := time.Duration(0); since < length; since += 2 * time.Second {
		n.now = n.now.Add(2 * time.Second)
		s := state(since)
		s.Link = "to head-office"
		n.h.Look([]links.State{s})
	}
}

func up(time.Duration) links.State { return links.State{Up: true} }

func (n *night) outages() []records.Outage {
	found, err := n.st.Links.Outages(dusk, n.now.Add(time.Hour))
	require.NoError(n.t, err)
	return found
}

func TestAnOutageTellsItsStory(t *testing.T) {
	n := begin(t)
	n.pass(time.Minute, up)
	assert.Empty(t, n.outages())
	fell := n.now
	n.pass(10*time.Minute, func(since time.Duration) links.State {
		return links.State{Reason: "connection refused", Rows: int(since.Seconds()), Oldest: fell}
	})
	going := n.outages()
	require.Len(t, going, 1)
	assert.True(t, going[0].Ended.IsZero(), "it is still down")
	assert.Equal(t, "connection refused", going[0].Reason)
	assert.WithinDuration(t, fell, going[0].Began, 3*time.Second)

	back := n.now
	n.pass(20*time.Second, func(since time.Duration) links.State {
		return links.State{
			Up:     true,
			Rows:   600 - 30*int(since.Seconds()),
			Oldest: fell.Add(since),
			Moved:  uint64(30 * int(since.Seconds())),
		}
	})
	pace := n.h.Pace("to head-office")
	assert.Greater(t, pace.Rate, 0.0)
	n.pass(10*time.Second, func(time.Duration) links.State { return links.State{Up: true, Rows: 3, Oldest: n.now} })
	done := n.outages()
	require.Len(t, done, 1)
	assert.WithinDuration(t, back, done[0].Ended, 3*time.Second)
	assert.WithinDuration(t, back.Add(20*time.Second), done[0].CaughtUp, 5*time.Second)
	assert.InDelta(t, 600, done[0].Waited, 5)
	assert.WithinDuration(t, fell, done[0].Oldest, time.Second)
	waited, err := n.st.Links.Waited(dusk, n.now)
	require.NoError(t, err)
	assert.NotEmpty(t, waited)

	n.pass(time.Minute, up)
	n.pass(time.Minute, func(time.Duration) links.State { return links.State{Reason: "again"} })
	assert.Len(t, n.outages(), 2, "the next is another one")
}

// A central hears that 135 summaries waited in the message that brings them all.
func TestWhatArrivesAtOnceHadWaitedToo(t *testing.T) {
	n := begin(t)
	n.pass(time.Minute, up)
	fell := n.now
	n.pass(5*time.Minute, func(time.Duration) links.State { return links.State{Reason: "nothing was heard"} })
	again := links.State{
		Up:     true,
		Moved:  135,
		Return: links.Return{At: n.now.Add(2 * time.Second), Rows: 135, Oldest: fell.Add(20 * time.Second)},
	}
	n.pass(10*time.Minute, func(time.Duration) links.State { return again })
	done := n.outages()
	require.Len(t, done, 1)
	assert.Equal(t, 135, done[0].Waited)
	assert.Equal(t, fell.Add(20*time.Second), done[0].Oldest.UTC())
	assert.WithinDuration(t, done[0].Ended, done[0].CaughtUp, 3*time.Second)

	n.pass(time.Minute, func(time.Duration) links.State { return links.State{Reason: "again", Return: again.Return} })
	n.pass(10*time.Minute, func(time.Duration) links.State { return again })
	assert.Zero(t, n.outages()[1].Waited, "what was said after the first outage is not of the second")
}

func TestWhatIsDownForAMomentIsNoOutage(t *testing.T) {
	n := begin(t)
	n.pass(time.Minute, up)
	n.pass(4*time.Second, func(time.Duration) links.State { return links.State{Reason: "a blink"} })
	n.pass(time.Minute, up)
	assert.Empty(t, n.outages())
}

func TestAnOutageGoesOnOverARestart(t *testing.T) {
	n := begin(t)
	n.pass(time.Minute, func(time.Duration) links.State {
		return links.State{Reason: "no route", Rows: 5, Oldest: dusk}
	})
	require.NoError(t, n.st.Close())
	n.now = n.now.Add(time.Hour)
	n.open()
	n.pass(10*time.Second, func(time.Duration) links.State {
		return links.State{Reason: "no route", Rows: 9, Oldest: dusk}
	})
	n.pass(10*time.Second, up)
	found := n.outages()
	require.Len(t, found, 1)
	assert.WithinDuration(t, dusk, found[0].Began, 5*time.Second)
	assert.WithinDuration(t, n.now, found[0].Ended, 15*time.Second)
	assert.Equal(t, 9, found[0].Waited)
	runs, err := n.st.Links.Runs(dusk, n.now)
	require.NoError(t, err)
	require.Len(t, runs, 2, "in between nothing is known")
	assert.True(t, runs[0].To.Before(runs[1].From))
}

func TestWhatIsOldIsForgotten(t *testing.T) {
	n := begin(t)
	n.pass(time.Minute, func(time.Duration) links.State { return links.State{Reason: "x"} })
	n.pass(2*time.Minute, up)
	require.Len(t, n.outages(), 1)
	n.now = n.now.Add(records.KeepOutages + time.Hour)
	n.pass(10*time.Second, up)
	assert.Empty(t, n.outages())
	runs, err := n.st.Links.Runs(dusk, n.now)
	require.NoError(t, err)
	assert.Len(t, runs, 1)
}

func TestAServiceThatEndsAsSoonAsItBeganLeavesNoListWithoutEnd(t *testing.T) {
	n := begin(t)
	for i := range 2100 {
		at := dusk.Add(time.Duration(i) * time.Second)
		require.NoError(t, n.st.Links.Save(nil, nil, records.Run{From: at, To: at.Add(time.Millisecond)}))
	}
	require.NoError(t, n.st.Links.Drop(dusk))
	runs, err := n.st.Links.Runs(dusk, dusk.Add(time.Hour))
	require.NoError(t, err)
	assert.Len(t, runs, 2000)
	assert.Equal(t, dusk.Add(2099*time.Second), runs[len(runs)-1].From, "the newest are kept")
}

func TestWhatIsNoLinkAnyMoreIsNotDownForEver(t *testing.T) {
	n := begin(t)
	n.pass(time.Minute, func(time.Duration) links.State { return links.State{Reason: "x"} })
	require.True(t, n.outages()[0].Ended.IsZero())
	n.now = n.now.Add(2 * time.Second)
	n.h.Look([]links.State{{Link: "to another", Up: true}})
	assert.WithinDuration(t, n.now, n.outages()[0].Ended, time.Second)
}

// TestTheTimeUntilALinkHasCaughtUpIsForetold has backlogs arrive at rates that vary, beside what is made meanwhile. Once a
// tenth has arrived, the rest takes as long as was said, to a fifth.
func TestTheTimeUntilALinkHasCaughtUpIsForetold(t *testing.T) {
	r := rand.New(rand.NewPCG(30, 2))
	for range 20 {
		n := begin(t)
		fell := n.now
		waits := 2000 + r.IntN(1_000_000)
		n.pass(5*time.Minute, func(time.Duration) links.State {
			return links.State{Reason: "connection refused", Rows: waits, Oldest: fell}
		})
		left, moved, back := float64(waits), 0.0, n.now
		perStep, live := left/float64(60+r.IntN(600)), left/2000
		var said time.Time
		for left > live {
			n.pass(2*time.Second, func(time.Duration) links.State {
				arrives := perStep * (0.7 + 0.6*r.Float64())
				left, moved = max(0, left-arrives+live), moved+arrives
				return links.State{Up: true, Rows: int(left), Oldest: fell, Moved: uint64(moved)}
			})
			if pace := n.h.Pace("to head-office"); said.IsZero() && pace.Arrived >= 0.1 {
				said = pace.CaughtUp
				require.False(t, said.IsZero())
			}
		}
		assert.InEpsilon(t, n.now.Sub(back).Seconds(), said.Sub(back).Seconds(), 0.2)
	}
}

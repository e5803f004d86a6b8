package window

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

// A second of each, in letters: a above, b below, - nothing known.
func spellsOf(text string) spells {
	var r run
	r.begin(0)
	for i, letter := range text {
		if at := int64(i); letter == 'a' {
			r.extend(at, at+1, 1)
		} else {
			r.close()
		}
	}
	return r.end(int64(len(text)))
}

func TestSpellsAreTheSameHoweverTheyAreCut(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 3000 {
		text := make([]byte, 1+random.IntN(12))
		for i := range text {
			text[i] = "ab"[random.IntN(2)]
		}
		var joined spells
		for i := 0; i < len(text); {
			k := i + 1 + random.IntN(len(text)-i)
			part := spellsOf(string(text[i:k]))
			if part.times > 0 { // times of its own, counted from its start
				part.first, part.last = part.first+int64(i), part.last+int64(i)
			}
			joined.then(part, true)
			i = k
		}
		want := spellsOf(string(text))
		want.first, joined.first = 0, 0 // 0 is a time here
		require.Equal(t, want, joined, "%s", text)
	}
}

// What summaries say of a condition lies around what readings say, and where they are sure it is the same.
func TestBoundsFromSummariesHoldTheTruth(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	def := &series.Definition{Kind: series.Gauge, FreshFor: 30 * time.Second}
	stats, err := ParseStats("above:5,above_longest:5,between:2..4,between_share:2..4,below:1")
	require.NoError(t, err)
	sure := 0
	for range 400 {
		raw := column.New(1, 0)
		for at, level := int64(0), 3.0; at < 8*minute; at += int64(time.Second) * (1 + random.Int64N(20)) {
			if random.IntN(3) == 0 {
				level = float64(random.IntN(9))
			}
			raw.Add(at, level)
			if random.IntN(15) == 0 {
				at += random.Int64N(minute)
			}
		}
		block := rollup.NewBlock(def.Kind, 0)
		for at := int64(0); at < 8*minute; at += minute {
			if s := rollup.Fold(raw, at, at+minute, def); s.Count > 0 {
				s.AddTo(&block, at, def.Kind)
			}
		}
		windows, err := Grid{Width: Step{Fixed: 4 * time.Minute}}.Cut(Range{
			From:  time.Unix(0, 0),
			To:    time.Unix(0, 8*minute),
			Exact: true,
		}, 10)
		require.NoError(t, err)
		exact, err := NewPlan(windows, series.Tiers{}.All(), true, true)
		require.NoError(t, err)
		bounded, err := NewPlan(windows, series.Tiers{}.All(), false, false)
		require.NoError(t, err)
		truth, about := NewReducer(exact, def, stats, Options{}), NewReducer(bounded, def, stats, Options{})
		require.NoError(t, truth.Rows(raw, 0))
		require.NoError(t, about.Rows(block, minute))
		want, got := truth.Finish(), about.Finish()
		for k := range stats {
			for w := range windows {
				require.LessOrEqual(t, got.Least[k][w], want.Stats[k][w]+1e-9, "%s", stats[k])
				require.GreaterOrEqual(t, got.Most[k][w], want.Stats[k][w]-1e-9, "%s", stats[k])
				if v := got.Stats[k][w]; v == v {
					require.InDelta(t, want.Stats[k][w], v, 1e-9, "%s", stats[k])
					sure++
				}
			}
		}
	}
	assert.Greater(t, sure, 500)
}

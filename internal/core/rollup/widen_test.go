package rollup

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
)

// chain makes the summaries of all windows of some tiers, each from the one before.
func chain(rows column.Block, def *series.Definition, tiers []series.Tier) []column.Block {
	out := []column.Block{rows}
	for i, tier := range tiers {
		made := NewBlock(def.Kind, 0)
		for start := tier.Start(rows.Times[0]); start <= rows.Times[rows.Len()-1]; start += int64(tier) {
			sum := Fold(rows, start, start+int64(tier), def)
			if i > 0 {
				sum = Widen(out[i], tiers[i-1], start, start+int64(tier), def)
			}
			if sum.Count > 0 {
				sum.AddTo(&made, start, def.Kind)
			}
		}
		out = append(out, made)
	}
	return out
}

func TestAWiderTierSaysOfANarrowerOneWhatItWouldOfReadings(t *testing.T) {
	tiers := []series.Tier{series.TenSecond, series.Minute, series.Quarter, series.Tier(time.Hour)}
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 7))
		kind := []series.Kind{series.Gauge, series.Counter, series.State, series.Bearing}[seed%4]
		def := &series.Definition{
			Kind:     kind,
			FreshFor: time.Duration(1+r.IntN(4000)) * time.Second,
			Wrap:     []float64{0, 100}[r.IntN(2)],
		}
		rows := column.New(1, 0)
		mostApart := 1 + r.IntN(3000)
		for at := int64(r.IntN(5000)) * second; rows.Len() < 400; at += int64(1+r.IntN(mostApart))*second + r.Int64N(second) {
			value := math.Floor(r.Float64() * 360)
			switch kind {
			case series.Counter:
				value = math.Mod(float64(rows.Len())*3, 97)
			case series.State:
				value = float64(r.IntN(4))
			}
			rows.Add(at, value)
		}
		all := chain(rows, def, tiers)
		for i, tier := range tiers {
			for k := range all[i+1].Len() {
				start := all[i+1].Times[k]
				want, got := Fold(rows, start, start+int64(tier), def), FromRow(all[i+1], k, kind)
				slack := 1e-9 * (1 + math.Abs(want.Mean))
				require.InDelta(t, want.Mean, got.Mean, slack)
				require.InDelta(t, want.M2, got.M2, 1e-6*(1+want.M2))
				require.InDelta(t, want.Held, got.Held, slack)
				require.InDelta(t, want.North, got.North, 1e-9)
				require.InDelta(t, want.East, got.East, 1e-9)
				require.Equal(t, want.States, got.States, "seed %d, tier %s", seed, tier)
				want.Mean, want.M2, want.Held, want.North, want.East, want.States, want.Growing = got.Mean, got.M2, got.Held, got.North, got.East, got.States, got.Growing
				require.Equal(t, want, got, "seed %d, %s, tier %s", seed, kind, tier)
			}
		}
	}
}

func TestWiderWindowsFollowNarrowerOnes(t *testing.T) {
	p := NewPending()
	made := []Window{
		{Series: 1, Tier: series.TenSecond, Start: 50 * second},
		{Series: 1, Tier: series.TenSecond, Start: 60 * second},
		{Series: 1, Tier: series.TenSecond, Start: 70 * second},
	}
	p.Follow(made, series.Minute, 1, 80*second)
	assert.Equal(t, []int64{0, 60}, starts(p.Due(1000*second, false, 10)))
	p.Follow([]Window{{Series: 1, Tier: series.Minute, Start: 60 * second}}, series.Tier(30*time.Second), 0, 80*second)
	assert.Equal(t, []int64{60, 90}, starts(p.Due(1000*second, false, 10)),
		"a narrower tier takes over what a wider one left")

	marked := p.Follow([]Window{
		{Series: 1, Tier: series.TenSecond, Start: 50 * second},
		{Series: 1, Tier: series.TenSecond, Start: 110 * second},
		{Series: 1, Tier: series.TenSecond, Start: 120 * second},
	}, series.Minute, 1, 122*second)
	assert.Equal(t, []int64{0, 60, 120}, starts(marked))
	assert.Equal(t, []int64{60}, starts(p.TakeClosed(marked, 122*second)),
		"the one that closes now; one is open, and one may get more")
	assert.Equal(t, []int64{0}, starts(p.Due(124*second, false, 10)))
}

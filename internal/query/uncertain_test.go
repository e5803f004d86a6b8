package query

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
)

// What only readings tell exactly lies between the bounds that summaries tell, also across series, and nothing
// is left out on the way.
func TestBoundsAreCarriedAcrossSeries(t *testing.T) {
	st, random := empty(t), rand.New(rand.NewPCG(5, 6))
	for _, path := range []series.Path{"a/b/x", "a/b/y", "a/b/z"} {
		put(t, st, series.Definition{Path: path, Kind: series.Gauge, FreshFor: 15 * time.Second}, func(i int) float64 {
			if i/60 == 2 {
				return 20 // all of it above
			}
			return 20 * random.Float64()
		})
	}
	for _, function := range []string{"sum", "mean", "min", "max", "p50", "count", "sd"} {
		q := ask(t, "a/b/+", "10m", "above:10,above_share:1e1")
		var err error
		q.Across, err = ParseAcross(function, "")
		require.NoError(t, err)
		exact, bounds := answer(t, q, from(st, true)).series[0], answer(t, q, from(st, false)).series[0]
		assert.Equal(t, []string{"above:10", "above_share:1e1", Contributing}, bounds.Stats, "as it was asked for")
		check := func(v, least, most, true float64) {
			t.Helper()
			if function == "sd" {
				return
			}
			assert.LessOrEqual(t, least, true+1e-9, function)
			assert.GreaterOrEqual(t, most, true-1e-9, function)
			assert.Equal(t, least != most, math.IsNaN(v), "%s: %v to %v", function, least, most)
			if least == most {
				assert.InDelta(t, true, v, 1e-9)
			}
		}
		uncertain := 0
		for i := range 2 {
			for k, v := range exact.Rows.Stats[i] {
				require.False(t, math.IsNaN(v))
				if function == "sd" {
					assert.True(t, math.IsNaN(bounds.Rows.Stats[i][k]) || k == 2, "no bounds can be told of it")
					continue
				}
				check(bounds.Rows.Stats[i][k], bounds.Least[i][k], bounds.Most[i][k], v)
				if math.IsNaN(bounds.Rows.Stats[i][k]) {
					uncertain++
				}
			}
			if function != "sd" {
				check(bounds.Whole[i], bounds.WholeLeast[i], bounds.WholeMost[i], exact.Whole[i])
			}
		}
		assert.Equal(t, function != "count" && function != "sd", uncertain > 0, function)
		assert.Equal(t, function == "sd", len(bounds.Why) > 0)
		assert.Equal(t, []float64{3, 3, 3, 3, 3, 3}, bounds.Rows.Stats[2], "all of them have readings")
		assert.EqualValues(t, 3, bounds.Whole[2])
	}
}

// A member that has readings and no number makes the whole unknown, with the reason, instead of being left out.
func TestWhatIsNotKnownOfOneSeriesIsNotKnownAcrossThem(t *testing.T) {
	st := empty(t)
	states := series.Definition{Path: "a/b/few", Kind: series.State, FreshFor: 15 * time.Second}
	put(t, st, states, func(i int) float64 { return float64(i % 2) })
	states.Path = "a/b/many"
	put(t, st, states, func(i int) float64 {
		if i < 60 {
			return 1
		}
		return float64(i % 50) // more than a summary tells apart
	})
	q := ask(t, "a/b/+", "10m", "duration:1,changes")
	one := answer(t, q, from(st, false))
	require.Len(t, one.series[1].Why, 1)
	assert.Equal(t, "duration:1", one.series[1].Why[0].Stat)
	assert.Contains(t, one.series[1].Why[0].Text, "more states than summaries tell apart")
	var err error
	q.Across, err = ParseAcross("sum", "")
	require.NoError(t, err)
	q.Then, err = ParseAgain("sum,count,max")
	require.NoError(t, err)
	got := answer(t, q, from(st, false)).series[0]
	assert.InDelta(t, 300+600, got.Rows.Stats[0][0], 1e-6)
	assert.True(t, math.IsNaN(got.Rows.Stats[0][1]), "not 300, which is of one of them")
	assert.False(t, math.IsNaN(got.Rows.Stats[1][1]), "what is known is told")
	assert.True(t, math.IsNaN(got.Whole[0]))
	require.Len(t, got.Why, 1)
	assert.Equal(t, "of up to 1 of the series it is not known: there were more states than summaries tell apart",
		got.Why[0].Text)
	for k, row := range got.Again {
		assert.Equal(t, k != 1, math.IsNaN(row.Values[0]), "%s over windows of which some are not known", row.Name)
	}

	in, err := ParseInput("m=a/b/many@duration:1")
	require.NoError(t, err)
	calculated := ask(t, "#", "10m", "")
	calculated.Select, calculated.Inputs = nil, []Input{in}
	calculated.Calculations, err = ParseCalculations([]string{"half=m/2"}, calculated.Inputs)
	require.NoError(t, err)
	rows := answer(t, calculated, from(st, false)).series[0]
	assert.Equal(t, 300.0, rows.Rows.Stats[0][0])
	assert.True(t, math.IsNaN(rows.Rows.Stats[0][1]))
	require.Len(t, rows.Why, 1)
	assert.Contains(t, rows.Why[0].Text, "input m: there were more states")

	ranked := ask(t, "a/b/+", "", "duration:1")
	ranked.Rank = &Rank{Highest: true, Most: 2}
	best := answer(t, ranked, from(st, false))
	assert.Len(t, best.series, 1)
	assert.Contains(t, best.head.LeftOut[0], "a/b/many: it cannot be ranked: there were more states")
}

func TestBearingsAreWithinACircle(t *testing.T) {
	st := empty(t)
	ids, err := st.Define(t.Context(), []series.Definition{{Path: "a/b/c", Kind: series.Bearing, FreshFor: time.Hour}})
	require.NoError(t, err)
	rows := column.New(1, 0)
	for i, v := range []float64{-10, 370, 360, -1e-20, 720.5, 359.9} {
		rows.Add(begin.Add(time.Duration(i)*10*time.Minute).UnixNano(), v)
	}
	require.NoError(t, st.Append(t.Context(), storeBatch(ids[0], rows)))
	got := answer(t, ask(t, "#", "10m", "first,last,mean"), from(st, true)).series[0]
	for i, want := range []float64{350, 10, 0, 0, 0.5, 359.9} {
		for k := range 3 {
			v := got.Rows.Stats[k][i]
			assert.InDelta(t, want, v, 1e-9)
			assert.True(t, v >= 0 && v < 360, "%v", v)
		}
	}
}

func storeBatch(id uint32, rows column.Block) engine.Batch {
	return engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rows}}}
}

package wire

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

func TestSummariesThatNoReadingsCanHaveAreRefused(t *testing.T) {
	minute, at := int64(time.Minute), 7*int64(time.Minute)
	good := rollup.Summary{
		Count:   6,
		Mean:    8,
		M2:      2,
		Min:     7,
		Max:     9,
		First:   8,
		Last:    7.5,
		MinAt:   at + 5,
		MaxAt:   at + 9,
		FirstAt: at,
		LastAt:  at + minute - 1,
		Covered: time.Minute,
		Held:    3,
	}
	refused := func(kind series.Kind, change func(*rollup.Summary)) error {
		one := good
		change(&one)
		rows := rollup.NewBlock(kind, 1)
		one.AddTo(&rows, at, kind)
		data, err := EncodeBatch([]Run{{
			Def:  series.Definition{Path: "a/b/c", Kind: kind, FreshFor: time.Minute},
			Tier: series.Minute,
			Rows: rows,
		}}, nil, nil)
		require.NoError(t, err)
		got, err := DecodeBatch(data)
		bad := got.Bad
		require.NoError(t, err)
		if len(bad) == 0 {
			return nil
		}
		return bad[0].Err
	}
	for _, kind := range []series.Kind{series.Gauge, series.Counter, series.State, series.Bearing} {
		require.NoError(t, refused(kind, func(*rollup.Summary) {}), kind)
	}
	require.NoError(t, refused(series.Gauge, func(s *rollup.Summary) { s.M2, s.Mean = -1e-15, 7-1e-12 }),
		"sums are rounded")
	require.NoError(t,
		refused(series.Gauge, func(s *rollup.Summary) { s.Min, s.Max, s.Mean, s.First, s.Last = 0, 0, 0, 0, 0 }))
	require.NoError(t, refused(series.Gauge, func(s *rollup.Summary) {
		s.Min, s.Max, s.Mean, s.First, s.Last = -1e300, 1e300, 0, 1e300, -1e300
		s.M2 = math.MaxFloat64
	}))
	for says, change := range map[string]func(*rollup.Summary){
		"min 10 is above its max 9":  func(s *rollup.Summary) { s.Min = 10 },
		"mean 9.5 is not between":    func(s *rollup.Summary) { s.Mean = 9.5 },
		"first 6 and last 7.5":       func(s *rollup.Summary) { s.First = 6 },
		"first 8 and last 9.1":       func(s *rollup.Summary) { s.Last = 9.1 },
		"m2 -1 is below 0":           func(s *rollup.Summary) { s.M2 = -1 },
		"covers 6.0000000001e+10 ns": func(s *rollup.Summary) { s.Covered++ },
		"covers -1 ns":               func(s *rollup.Summary) { s.Covered = -1 },
		"last_at is 6e+10 ns":        func(s *rollup.Summary) { s.LastAt = at + minute },
		"min_at is -1 ns":            func(s *rollup.Summary) { s.MinAt = at - 1 },
		"max_at is 9e+10 ns":         func(s *rollup.Summary) { s.MaxAt = at + minute + minute/2 },
		"first reading, 50 ns after": func(s *rollup.Summary) { s.FirstAt, s.LastAt = at+50, at+40 },
		"first_at is -6e+10 ns":      func(s *rollup.Summary) { s.FirstAt = at - minute },
	} {
		assert.ErrorContains(t, refused(series.Gauge, change), says)
	}
	assert.ErrorContains(t, refused(series.Counter, func(s *rollup.Summary) { s.Increase = -3 }), "it grew by -3")
	assert.ErrorContains(t, refused(series.State, func(s *rollup.Summary) { s.Changes = -1 }), "it has -1 changes")
}

package column

import (
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMergingIsWhatAMapWouldDo(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	for range 2000 {
		var have Block
		model := map[int64]float64{}
		for range 1 + random.IntN(6) {
			add := New(1, 0)
			for range random.IntN(8) {
				at, v := int64(random.IntN(20)), random.Float64()
				add.Add(at, v)
				model[at] = v
			}
			have = Merge(have, add.Normalize())
		}
		times := slices.Sorted(maps.Keys(model))
		require.Equal(t, len(times), have.Len())
		for i, at := range times {
			require.Equal(t, at, have.Times[i])
			require.Equal(t, model[at], have.Cols[0][i])
		}
	}
}

func TestMergingNeverWritesOverRowsThatOthersSee(t *testing.T) {
	older := New(1, 100)
	for i := range 50 {
		older.Add(int64(2*i), 1)
	}
	view := older.Between(0, 100)
	late := New(1, 1)
	late.Add(11, 2)
	merged := Merge(older, late)
	assert.Equal(t, 51, merged.Len())
	again := New(1, 1)
	again.Add(10, 9)
	Merge(older, again)
	for i := range view.Times {
		assert.Equal(t, int64(2*i), view.Times[i])
		assert.EqualValues(t, 1, view.Cols[0][i])
	}
}

func TestBetweenTakesTheBeginAndLeavesTheEnd(t *testing.T) {
	b := New(1, 0)
	for _, at := range []int64{10, 20, 30} {
		b.Add(at, float64(at))
	}
	assert.Equal(t, []int64{10, 20}, b.Between(10, 30).Times)
	assert.Equal(t, 0, b.Between(31, 40).Len())
	assert.Equal(t, 0, b.Between(25, 15).Len(), "a range the wrong way round is empty")
	assert.ErrorContains(t, Block{Times: []int64{1}, Cols: [][]float64{{}}}.Check(), "column 0 has 0 rows")
}

func TestColumnsThatAreNotNeededStayAway(t *testing.T) {
	all := New(3, 0)
	for i := range int64(40) {
		all.Add(i, 1, 2, 3)
	}
	for _, room := range []int{0, 64} {
		some := New(3, room)
		some.Append(all.Rows(0, 10).Pick(func(col int) bool { return col != 1 }))
		some.Append(all.Rows(10, 40))
		if got := some; len(got.Times) != 40 || len(got.Cols[0]) != 40 || got.Cols[1] != nil || len(got.Cols[2]) != 40 {
			t.Fatalf("%d rows, columns of %d, %d and %d", len(got.Times), len(got.Cols[0]), len(got.Cols[1]),
				len(got.Cols[2]))
		}
	}
	narrow := New(1, 0)
	narrow.Add(1, 5)
	narrow.Append(all.Rows(2, 4))
	assert.Equal(t, []float64{0, 3, 3}, narrow.Cols[2])
}

package store

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
)

// Every row is counted exactly once, from a synopsis or by itself, whatever is sealed,
// merged or written again meanwhile.
func TestScansCountEveryRowOnceWhileChunksAreReplaced(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	const batches, each = 150, 40
	written := make(chan int64, 1)
	written <- 0
	var done sync.WaitGroup
	stop := make(chan struct{})
	for reader := range 3 {
		done.Go(func() {
			random := rand.New(rand.NewPCG(uint64(reader), 9))
			for {
				least := <-written
				written <- least
				want := engine.Wanted{Tier: series.Minute, From: 0, To: 1 << 60, Need: rollup.NeedAll, Steps: true}
				want.Cut = func(from, to int64) bool { return random.IntN(2) == 0 }
				known, _ := s.Get(id)
				sum := &tally{join: rollup.NewJoiner(&known.Definition, rollup.NeedAll)}
				sum.join.Begin(0)
				if !assert.NoError(t, s.Scan(t.Context(), id, want, sum)) {
					return
				}
				count := int64(sum.join.End(1 << 60).Count)
				if !assert.GreaterOrEqual(t, count, least) || !assert.LessOrEqual(t, count, int64(batches*each)) ||
					!assert.Zero(t, count%each, "batches are seen whole") {
					return
				}
				select {
				case <-stop:
					return
				default:
				}
			}
		})
	}
	for i := range int64(batches) {
		rows := minutesOf(i*each, each)
		if i%9 == 4 {
			rows = minutesOf((i-2)*each, 3*each) // the two before once more, revised
		}
		assert.NoError(t,
			s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Tier: series.Minute, Rows: rows}}}))
		<-written
		written <- (i + 1) * each
		if i%3 == 0 {
			assert.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
		}
	}
	close(stop)
	done.Wait()
}

func TestQueriesGoOnWhileOldChunksAreDropped(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	const rows = 60_000
	b := column.New(1, rows)
	for i := range rows {
		b.Add(int64(i)*1e9, float64(i))
	}
	require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: b}}}))
	require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
	var done sync.WaitGroup
	stop := make(chan struct{})
	done.Go(func() {
		for {
			got, err := s.Read(t.Context(), id, series.Readings, 0, 1<<60)
			if !assert.NoError(t, err) || !assert.EqualValues(t, rows-1, got.Cols[0][got.Len()-1], "the newest stay") ||
				!assert.True(t, got.Ordered()) {
				return
			}
			select {
			case <-stop:
				return
			default:
			}
		}
	})
	for before := int64(0); before < rows*1e9/2; before += 1000 * 1e9 {
		_, err := s.Drop(t.Context(), id, series.Readings, time.Unix(0, before), time.Time{})
		assert.NoError(t, err)
	}
	close(stop)
	done.Wait()
	left, err := s.Read(t.Context(), id, series.Readings, 0, 1<<60)
	require.NoError(t, err)
	assert.Less(t, left.Len(), rows*3/4)
	assert.GreaterOrEqual(t, left.Len(), rows/2)
}

func TestManySeriesAreDefinedAtOnce(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	var defs []series.Definition
	for i := range 1200 {
		defs = append(defs, series.Definition{
			Path: series.Path(fmt.Sprintf("a/b/q-%d", i)), Kind: series.Counter, FreshFor: time.Minute, Wrap: 100, Labels: "depth=3m", Sketch: i%2 == 0,
		})
	}
	defs = append(defs, defs[7]) // twice in one go
	ids, err := s.Define(t.Context(), defs)
	require.NoError(t, err)
	assert.Equal(t, ids[7], ids[1200])
	defs[3].Unit = "l"
	again, err := s.Define(t.Context(), defs)
	require.NoError(t, err)
	assert.Equal(t, ids, again)
	s = reopen(t, s)
	assert.Equal(t, 1200, s.Count())
	for i, id := range ids {
		known, ok := s.Get(id)
		require.True(t, ok)
		require.Equal(t, defs[i], known.Definition)
	}
	defs[5].Kind = series.Gauge
	_, err = s.Define(t.Context(), []series.Definition{defs[9], defs[5]})
	assert.ErrorContains(t, err, "a/b/q-5 was recorded as a counter")
	other := series.Definition{Path: "x/y", Kind: series.Gauge}
	changed := other
	changed.Kind = series.State
	_, err = s.Define(t.Context(), []series.Definition{other, changed})
	assert.ErrorContains(t, err, "x/y was recorded as a gauge and cannot become a state")
	assert.Equal(t, 1200, s.Count(), "all of it or nothing")
}

func TestSketchesAreKeptReplacedAndDropped(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id, other := define(t, s, "a/b/c"), define(t, s, "a/b/d")
	var batch engine.Batch
	for i := range int64(500) {
		batch.Sketches = append(batch.Sketches, engine.Sketch{Series: id, Start: i * 900, Data: []byte{byte(i)}})
	}
	batch.Sketches = append(batch.Sketches, engine.Sketch{Series: other, Start: 0, Data: []byte("other")})
	require.NoError(t, s.Append(t.Context(), batch))
	require.NoError(t,
		s.Append(t.Context(),
			engine.Batch{Sketches: []engine.Sketch{{Series: id, Start: 1800, Data: []byte("revised")}}}))
	s = reopen(t, s)
	some, err := s.Sketches(t.Context(), id, 900, 3600, 100)
	require.NoError(t, err)
	assert.Equal(t, []engine.Sketch{
		{Series: id, Start: 900, Data: []byte{1}},
		{Series: id, Start: 1800, Data: []byte("revised")}, {Series: id, Start: 2700, Data: []byte{3}},
	}, some)
	require.NoError(t, s.DropSketches(t.Context(), id, time.Unix(0, 450*900), time.Time{}))
	left, err := s.Sketches(t.Context(), id, 0, 1<<60, 1000)
	require.NoError(t, err)
	assert.Len(t, left, 50)
	left, err = s.Sketches(t.Context(), other, 0, 1<<60, 1000)
	require.NoError(t, err)
	assert.Len(t, left, 1)
}

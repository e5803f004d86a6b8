package store

import (
	"math/rand/v2"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
)

// sealing is a sink that seals the store in the middle of a scan.
type sealing struct {
	gathered
	seal func()
}

func (s *sealing) Rows(b column.Block, width int64) error {
	s.seal()
	return s.gathered.Rows(b.Clone(), width)
}

func TestASealInTheMiddleOfAScanBringsNoRowTwice(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	put := func(pairs ...float64) {
		require.NoError(t,
			s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(pairs...)}}}))
	}
	put(100, 1, 200, 2)
	require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
	put(10, 3, 20, 4, 150, 5, 300, 6) // before, in and after the chunk
	got := &sealing{seal: sync.OnceFunc(func() { require.NoError(t, s.Seal(t.Context(), engine.Sealing{})) })}
	require.NoError(t, s.Scan(t.Context(), id, engine.Wanted{From: 0, To: 1000, Keep: true}, got))
	assert.Equal(t, []int64{10, 20, 100, 150, 200, 300}, got.rows.Times)
}

// Whatever is appended, sealed, dropped and read side by side: every reading that is
// younger than what may be dropped is seen exactly once.
func TestNothingIsLostOrDoubledSideBySide(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	ids := []uint32{define(t, s, "a/b/c"), define(t, s, "a/b/d"), define(t, s, "a/b/e")}
	const rounds, each = 120, 50
	var mu sync.Mutex
	written := map[uint32]map[int64]bool{} // by id: acknowledged times
	for _, id := range ids {
		written[id] = map[int64]bool{}
	}
	day := int64(24 * time.Hour)
	var work, writers sync.WaitGroup
	stop := make(chan struct{})
	forever := func(f func(random *rand.Rand)) {
		work.Go(func() {
			random := rand.New(rand.NewPCG(5, 6))
			for {
				select {
				case <-stop:
					return
				default:
					f(random)
				}
			}
		})
	}
	for n, id := range ids {
		writers.Go(func() {
			random := rand.New(rand.NewPCG(uint64(n), 8))
			for round := range int64(rounds) {
				rows := column.New(1, each)
				for range each {
					at := round * day / 8
					if random.IntN(6) == 0 {
						at = random.Int64N(round*day/8 + 1) // late
					}
					rows.Add(at+random.Int64N(day/8), 1)
				}
				rows = rows.Normalize()
				if !assert.NoError(t,
					s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rows}}})) {
					return
				}
				mu.Lock()
				for _, at := range rows.Times {
					written[id][at] = true
				}
				mu.Unlock()
			}
		})
	}
	forever(func(*rand.Rand) { assert.NoError(t, s.Seal(t.Context(), engine.Sealing{})) })
	forever(func(random *rand.Rand) {
		_, err := s.Drop(t.Context(), ids[2], series.Readings, time.Unix(0, random.Int64N(day)), time.Time{})
		assert.NoError(t, err)
	})
	for range 2 {
		forever(func(random *rand.Rand) {
			id := ids[random.IntN(len(ids))]
			from := day + random.Int64N(10*day) // what is dropped of the last one is older
			mu.Lock()
			var must []int64
			for at := range written[id] {
				if at >= from && at < from+day {
					must = append(must, at)
				}
			}
			mu.Unlock()
			got, err := s.Read(t.Context(), id, series.Readings, from, from+day)
			if !assert.NoError(t, err) || !assert.True(t, got.Ordered(), "a row came twice") {
				return
			}
			for _, at := range must {
				k := got.Search(at)
				assert.True(t, k < got.Len() && got.Times[k] == at, "a row is missing")
			}
		})
	}
	writers.Wait()
	close(stop)
	work.Wait()
	require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
	for _, id := range ids[:2] {
		got, err := s.Read(t.Context(), id, series.Readings, 0, 1<<62)
		require.NoError(t, err)
		assert.Equal(t, len(written[id]), got.Len())
	}
}

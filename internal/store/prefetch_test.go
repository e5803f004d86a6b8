package store

import (
	"math/rand/v2"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
)

// counted adds up how many readings rows and synopses tell of.
type counted struct{ readings float64 }

func (c *counted) Rows(b column.Block, _ int64) error {
	for _, n := range b.Cols[rollup.ColCount] {
		c.readings += n
	}
	return nil
}

func (c *counted) Whole(_, _ int64, s rollup.Summary) error {
	c.readings += s.Count
	return nil
}

// Summaries of two days come in any order and are sealed, while scans read of all series at
// once first: each finds what was there before, once, and nothing that was not yet.
func TestReadingAheadLosesAndDoublesNothing(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	const days = 2
	var ids []uint32
	var begun, done [4]atomic.Int64
	var work, writers sync.WaitGroup
	stop := make(chan struct{})
	for i, path := range []series.Path{"a/b/c", "a/b/d", "a/b/e", "a/b/f"} {
		id := define(t, s, path)
		ids = append(ids, id)
		writers.Go(func() {
			random := rand.New(rand.NewPCG(uint64(i), 9))
			minutes := random.Perm(days * 1440)
			for len(minutes) > 0 {
				n := min(len(minutes), 1+random.IntN(120))
				rows := rollup.NewBlock(series.Gauge, n)
				for _, m := range minutes[:n] {
					at := int64(m) * int64(time.Minute)
					rollup.Summary{Count: 1, FirstAt: at, LastAt: at, MinAt: at, MaxAt: at}.AddTo(&rows, at,
						series.Gauge)
				}
				begun[i].Add(int64(n))
				if !assert.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{
					Series: id,
					Tier:   series.Minute,
					Rows:   rows.Normalize(),
				}}})) {
					return
				}
				done[i].Add(int64(n))
				minutes = minutes[n:]
			}
		})
	}
	work.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
				assert.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
			}
		}
	})
	never := func(int64, int64) bool { return false }
	read := func() bool {
		w := engine.Wanted{
			Tier:  series.Minute,
			From:  0,
			To:    days * 24 * int64(time.Hour),
			Need:  rollup.NeedAll,
			Steps: true,
			Cut:   never,
		}
		var before [4]int64
		for i := range before {
			before[i] = done[i].Load()
		}
		var err error
		if w.Ahead, err = s.Prefetch(t.Context(), ids, w); !assert.NoError(t, err) || !assert.NotNil(t, w.Ahead) {
			return false
		}
		for i, id := range ids {
			var got counted
			if !assert.NoError(t, s.Scan(t.Context(), id, w, &got)) {
				return false
			}
			if !assert.GreaterOrEqual(t, int64(got.readings), before[i]) ||
				!assert.LessOrEqual(t, int64(got.readings), begun[i].Load()) {
				return false
			}
		}
		return true
	}
	work.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
				if !read() {
					return
				}
			}
		}
	})
	writers.Wait()
	close(stop)
	work.Wait()
	require.True(t, read())
	assert.EqualValues(t, days*1440, done[0].Load())
}

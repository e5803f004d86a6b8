package query

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
)

// manyBuoys is a store of so many series, gauges and counters, in sites of 50, each with values of its own.
func manyBuoys(t *testing.T, count int) *store.Store {
	t.Helper()
	st := empty(t)
	for n := range count {
		kind := series.Gauge
		if n%7 == 3 {
			kind = series.Counter
		}
		put(t, st, series.Definition{
			Path:     series.Path(fmt.Sprintf("site-%d/buoy-%03d/value", n/50, n)),
			Kind:     kind,
			FreshFor: time.Minute,
		}, func(i int) float64 { return float64(1000*n + i) })
	}
	require.NoError(t, st.Seal(t.Context(), engine.Sealing{}))
	return st
}

// readsOf is a store that counts how many series are read ahead at once, and fails when it is told to.
type readsOf struct {
	*store.Store
	most int
	fail error
}

func (r *readsOf) Prefetch(ctx context.Context, ids []uint32, w engine.Wanted) (*engine.Prefetch, error) {
	if r.most = max(r.most, len(ids)); r.fail != nil {
		return nil, r.fail
	}
	return r.Store.Prefetch(ctx, ids, w)
}

func TestAnswersAreTheSameHoweverIsReadAhead(t *testing.T) {
	const count = 2*readAtOnce + 14
	st := manyBuoys(t, count)
	src := Source{Store: st, Limits: config.Queries{MaxRows: 10_000, MaxSeries: count, MaxTime: time.Minute}}
	single := ask(t, "#", "15m", "first,last,count")
	across := ask(t, "#", "15m", "last")
	var err error
	across.Across, err = ParseAcross("sum", "")
	require.NoError(t, err)
	across.By, err = ParseGrouping("level:1")
	require.NoError(t, err)
	shifted := across
	shifted.Shift, err = window.ParseStep("15m")
	require.NoError(t, err)

	turn := 0
	for name, beside := range map[string]func(func()) bool{
		"in turn": nil,
		"beside":  func(do func()) bool { go do(); return true },
		"one in two": func(do func()) bool {
			if turn++; turn%2 == 0 {
				return false
			}
			go do()
			return true
		},
	} {
		src.Beside = beside
		got := answer(t, single, src)
		require.Len(t, got.series, count)
		for n, s := range got.series {
			require.Equal(t, fmt.Sprintf("site-%d/buoy-%03d/value", n/50, n), s.Name)
			require.Equal(t, [][]float64{
				{float64(1000 * n), float64(1000*n + 90), float64(1000*n + 180), float64(1000*n + 270)},
				{float64(1000*n + 89), float64(1000*n + 179), float64(1000*n + 269), float64(1000*n + 359)},
				{90, 90, 90, 90},
			}, s.Rows.Stats, "%s: %s", name, s.Name)
		}
		for shift, q := range []Windows{across, shifted} {
			got = answer(t, q, src)
			require.Len(t, got.series, (1+shift)*((count+49)/50))
			for i, group := range got.series {
				site := i / (1 + shift)
				sum := 0.0
				for n := 50 * site; n < min(count, 50*site+50); n++ {
					sum += float64(1000*n + 359)
				}
				if i%(1+shift) == 1 { // the same, a quarter of an hour earlier
					sum -= 90 * float64(min(count, 50*site+50)-50*site)
				}
				require.Equal(t, sum, group.Rows.Stats[0][3], "%s: %s", name, group.Name)
			}
		}
	}
}

func TestAReadAheadThatFailsEndsTheAnswer(t *testing.T) {
	const count = readAtOnce + 5
	reads := &readsOf{Store: manyBuoys(t, count)}
	src := Source{Store: reads, Limits: config.Queries{MaxRows: 10_000, MaxSeries: count, MaxTime: time.Minute}}
	src.Beside = func(do func()) bool {
		reads.fail = errors.New("the disk is gone")
		go do()
		return true
	}
	var got collected
	err := ask(t, "#", "15m", "last").Run(t.Context(), src, &got)
	require.EqualError(t, err, "the disk is gone")
	assert.Len(t, got.series, readAtOnce, "what was read before is answered")
	assert.LessOrEqual(t, reads.most, readAtOnce)
}

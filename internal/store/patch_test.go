package store

import (
	"context"
	"maps"
	"math"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/rounds"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/sqlite"
)

// put appends rows of a series at a tier.
func put(t *testing.T, s *Store, id uint32, tier series.Tier, rows column.Block) {
	t.Helper()
	require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Tier: tier, Rows: rows}}}))
}

func sealed(t *testing.T, s *Store) {
	t.Helper()
	require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
}

// patches returns how many patches there are, and how many rows they have.
func patches(t *testing.T, s *Store) (count, rows int) {
	t.Helper()
	var all []sqlite.Patch
	require.NoError(t, writer(t, s).Find(&all).Error)
	for _, p := range all {
		rows += p.Count
	}
	return len(all), rows
}

// counts are rows of minutes that say how many readings each counts.
func counts(of map[int64]float64) column.Block {
	rows := rollup.NewBlock(series.Gauge, len(of))
	for _, at := range slices.Sorted(maps.Keys(of)) {
		rollup.Summary{Count: of[at], Mean: 1, FirstAt: at, LastAt: at, MinAt: at, MaxAt: at}.AddTo(&rows, at, series.Gauge)
	}
	return rows
}

// Summaries of a fortnight are made anew, a few here and there or many of one hour, while they are sealed, the file is
// opened again and the oldest are dropped: what is read is always the last that was said of each.
func TestLateRowsHideTheEarlierWhereverTheyStand(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	random := rand.New(rand.NewPCG(71, 72))
	minute := int64(series.Minute)
	begin := time.Date(2026, 3, 25, 0, 0, 0, 0, time.UTC).UnixNano()
	const minutes = 14 * 1440
	model := map[int64]float64{}
	for k := int64(0); k < minutes; k += 500 {
		part := map[int64]float64{}
		for i := k; i < min(minutes, k+500); i++ {
			part[begin+i*minute] = 1
		}
		maps.Copy(model, part)
		put(t, s, id, series.Minute, counts(part))
	}
	sealed(t, s)
	kept := begin // what is older may be there or not
	check := func() {
		from := kept + random.Int64N(minutes*minute-(kept-begin))
		to := from + random.Int64N(3*1440*minute)
		got, err := s.Read(t.Context(), id, series.Minute, from, to)
		require.NoError(t, err)
		var times []int64
		for _, at := range slices.Sorted(maps.Keys(model)) {
			if at >= from && at < to {
				times = append(times, at)
			}
		}
		require.Equal(t, len(times), got.Len())
		for i, at := range times {
			require.Equal(t, []any{at, model[at]}, []any{got.Times[i], got.Cols[rollup.ColCount][i]})
		}
		quick, sum := &counted{}, 0.0
		from -= from % stepWidth
		to -= to % stepWidth // steps are not cut
		for at, n := range model {
			if at >= from && at < to {
				sum += n
			}
		}
		if from >= kept {
			require.NoError(t, s.Scan(t.Context(), id, engine.Wanted{
				Tier: series.Minute, From: from, To: to, Need: rollup.Wants(rollup.ColCount), Steps: true,
				Cut: func(int64, int64) bool { return false },
			}, quick))
			require.Equal(t, sum, quick.readings, "synopses and steps say what the rows say")
		}
		before := from + random.Int64N(minutes*minute)
		at, _, ok, err := s.LastBefore(t.Context(), id, series.Minute, before)
		require.NoError(t, err)
		newest := int64(math.MinInt64)
		for m := range model {
			if m < before {
				newest = max(newest, m)
			}
		}
		if newest >= kept {
			require.True(t, ok)
			require.Equal(t, newest, at-(at-newest)%minute)
		}
	}
	most, folded, rowsBefore := 0, 0, 0
	for round := range rounds.Of(250) {
		part := map[int64]float64{}
		switch {
		case round%20 == 19: // all of a few hours
			first := random.Int64N(minutes - 400)
			for i := range int64(400) {
				part[begin+(first+i)*minute] = float64(round + 2)
			}
		default:
			for range 1 + random.IntN(60) {
				part[begin+random.Int64N(minutes)*minute] = float64(round + 2)
			}
		}
		for at := range part {
			if at < kept {
				delete(part, at)
			}
		}
		if len(part) > 0 {
			maps.Copy(model, part)
			put(t, s, id, series.Minute, counts(part))
		}
		switch random.IntN(12) {
		case 0:
			s = reopen(t, s)
		case 1:
			if random.IntN(4) == 0 {
				until := min(kept+random.Int64N(1440*minute), begin+minutes/2*minute)
				_, err := s.Drop(t.Context(), id, series.Minute, time.Unix(0, until), time.Time{})
				require.NoError(t, err)
				kept = until
				maps.DeleteFunc(model, func(at int64, _ float64) bool { return at < kept })
			}
		case 2, 3:
		default:
			sealed(t, s)
			count, rows := patches(t, s)
			if most = max(most, count); rows < rowsBefore {
				folded++
			}
			rowsBefore = rows
		}
		check()
	}
	whole(t, s)
	assert.LessOrEqual(t, most, 20, "there are few patches")
	assert.Greater(t, most, 2)
	assert.True(t, folded > 0 || testing.Short(), "chunks are written again once enough of their rows are late")
}

func TestALateRowRewritesNoLargeChunk(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	at := int64(0)
	for range 30 {
		rows := column.New(1, 0)
		for range fullChunk {
			rows.Add(at, 1)
			at += 1000
		}
		put(t, s, id, series.Readings, rows)
		sealed(t, s)
	}
	ids := func() map[uint64]bool {
		var all []uint64
		require.NoError(t, writer(t, s).Model(&sqlite.Chunk{}).Pluck("id", &all).Error)
		out := map[uint64]bool{}
		for _, one := range all {
			out[one] = true
		}
		return out
	}
	stay := func(before map[uint64]bool) (kept int) {
		for one := range ids() {
			if before[one] {
				kept++
			}
		}
		return kept
	}
	before := ids()
	late := column.New(1, 0)
	late.Add(3*fullChunk*1000+500, 2) // in the fourth
	late.Add(4*fullChunk*1000-1500, 2)
	late.Add(at, 3) // and new
	put(t, s, id, series.Readings, late)
	sealed(t, s)
	assert.Equal(t, len(before), stay(before), "all stay as they were")
	count, rows := patches(t, s)
	assert.Equal(t, []int{1, 2}, []int{count, rows})

	burst := column.New(1, 0)
	for k := range int64(fullChunk / 4) {
		burst.Add(3*fullChunk*1000+700+k*1000, 4)
	}
	put(t, s, id, series.Readings, burst)
	sealed(t, s)
	assert.Equal(t, len(before)-1, stay(before), "many late rows of one chunk rewrite that chunk")
	count, _ = patches(t, s)
	assert.Zero(t, count, "and what was late before goes with them")
	all, err := s.Read(t.Context(), id, series.Readings, 0, 1<<60)
	require.NoError(t, err)
	assert.Equal(t, 30*fullChunk+3+fullChunk/4, all.Len())
}

// lately returns a store with a chunk of the rows 0 to 1999, and a patch of 50 that says 7.
func lately(t *testing.T) (*Store, uint32) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	rows := column.New(1, 0)
	for at := range int64(2000) {
		rows.Add(at, 1)
	}
	put(t, s, id, series.Readings, rows)
	sealed(t, s)
	put(t, s, id, series.Readings, rowsOf(50, 7))
	sealed(t, s)
	count, _ := patches(t, s)
	require.Equal(t, 1, count)
	return s, id
}

func TestADamagedPatchIsSetAsideAndCounted(t *testing.T) {
	for _, change := range []string{
		"payload = zeroblob(40)", "payload = substr(payload, 1, 20)", "first_at = 49", "row_count = 2", "tier = 7",
	} {
		s, id := lately(t)
		require.NoError(t, writer(t, s).Exec("UPDATE patches SET "+change).Error)
		s = reopen(t, s)
		for _, tier := range []series.Tier{series.Readings, 7} {
			_, err := s.Read(t.Context(), id, tier, 0, 100)
			require.NoError(t, err, change)
		}
		rows, err := s.Read(t.Context(), id, series.Readings, 0, 100)
		require.NoError(t, err)
		assert.Equal(t, 100, rows.Len(), change)
		assert.Equal(t, 1.0, rows.Cols[0][50], change)
		assert.EqualValues(t, 1, s.Damaged(), change)
		count, _ := patches(t, s)
		assert.Zero(t, count, change)
	}
}

func TestWhatIsDroppedIsDroppedOfPatchesToo(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	march := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC).UnixNano()
	rows := column.New(1, 0)
	for n := int64(-2000); n < 2000; n++ {
		rows.Add(march+n*int64(time.Minute), 1)
	}
	put(t, s, id, series.Readings, rows)
	sealed(t, s)
	put(t, s, id, series.Readings, rowsOf(float64(march-int64(time.Minute)*60), 7, float64(march), 8))
	sealed(t, s)
	count, late := patches(t, s)
	require.Equal(t, []int{1, 2}, []int{count, late})
	gone, err := s.Drop(t.Context(), id, series.Readings, time.Unix(0, march+int64(time.Hour)), time.Time{})
	require.NoError(t, err)
	assert.Equal(t, 2001, gone, "of February, with the late one of it")
	left, err := s.Read(t.Context(), id, series.Readings, 0, math.MaxInt64)
	require.NoError(t, err)
	assert.Equal(t, 2000, left.Len())
	assert.Equal(t, []any{march, 8.0}, []any{left.Times[0], left.Cols[0][0]})
}

func TestPatchesOfASeriesThatGotAnotherIDComeAlong(t *testing.T) {
	s, id := lately(t)
	require.NoError(t, writer(t, s).Exec("UPDATE series SET definition = '{}'").Error)
	s = reopen(t, s)
	var note sqlite.Damaged
	require.NoError(t, writer(t, s).Take(&note).Error)
	require.NoError(t, writer(t, s).Delete(&note).Error)
	s = reopen(t, s)
	require.NoError(t, writer(t, s).Create(&note).Error)
	again := define(t, s, "a/b/c")
	require.NotEqual(t, id, again)
	put(t, s, again, series.Readings, rowsOf(3, 30))
	s = reopen(t, s)
	rows, err := s.Read(t.Context(), again, series.Readings, 0, 100)
	require.NoError(t, err)
	assert.Equal(t, []any{100, 1.0, 30.0, 7.0}, []any{rows.Len(), rows.Cols[0][2], rows.Cols[0][3], rows.Cols[0][50]})
	assert.Zero(t, s.Damaged())
}

// countdown is a context that ends after it was looked at so many times.
type countdown struct {
	context.Context
	left *atomic.Int64
}

var ended = func() chan struct{} {
	c := make(chan struct{})
	close(c)
	return c
}()

func (c countdown) Done() <-chan struct{} {
	if c.left.Add(-1) < 0 {
		return ended
	}
	return nil
}

func (c countdown) Err() error {
	if c.left.Load() < 0 {
		return context.Canceled
	}
	return nil
}

// A seal that writes chunks again together with patches, in several transactions, ends in the middle, as with a power
// cut: what is left, in the store and in a copy of its files, has all rows as they were last said.
func TestASealThatEndsWhilePatchesGoIntoChunksLosesNothing(t *testing.T) {
	rounds.Alone(t)
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	random := rand.New(rand.NewPCG(81, 82))
	const chunks = 40
	model := column.New(1, 0)
	for at := range int64(chunks * fullChunk) {
		model.Add(at*1000, random.Float64())
	}
	for k := range chunks {
		put(t, s, id, series.Readings, model.Rows(k*fullChunk, (k+1)*fullChunk))
		sealed(t, s)
	}
	late := func(every int) {
		rows := column.New(1, 0)
		for i := random.IntN(every); i < model.Len(); i += every {
			rows.Add(model.Times[i], random.Float64())
		}
		model = column.Merge(model.Clone(), rows)
		put(t, s, id, series.Readings, rows)
	}
	late(2000)
	sealed(t, s)
	count, _ := patches(t, s)
	require.Equal(t, 1, count)
	late(5)
	check := func(of *Store) {
		got, err := of.Read(t.Context(), id, series.Readings, 0, math.MaxInt64)
		require.NoError(t, err)
		require.True(t, slices.Equal(model.Times, got.Times) && slices.Equal(model.Cols[0], got.Cols[0]))
	}
	states := map[int64]bool{} // by how many chunks were written again
	for n := int64(0); ; n += 45 {
		left := &atomic.Int64{}
		left.Store(n)
		err := s.Seal(countdown{t.Context(), left}, engine.Sealing{})
		check(s)
		if err == nil {
			break
		}
		require.ErrorIs(t, err, context.Canceled)
		var rewritten int64
		require.NoError(t, writer(t, s).Model(&sqlite.Chunk{}).Where("id > ?", chunks).Count(&rewritten).Error)
		states[rewritten] = true
		count, _ := patches(t, s)
		require.NotZero(t, count, "they hide what chunks say until all of these are written")
		s = reopen(t, s)
		check(s)
	}
	assert.Greater(t, len(states), 2, "it ended between the transactions")
	count, _ = patches(t, s)
	assert.Zero(t, count)
}

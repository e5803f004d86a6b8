package store

import (
	"context"
	"math"
	"math/rand/v2"
	"path/filepath"
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

// stepWidth is how long a step of a chunk is.
const stepWidth = int64(15 * time.Minute)

// tally joins what a scan brings and counts how it came.
type tally struct {
	join                rollup.Joiner
	rows, steps, wholes int
}

func (s *tally) Rows(b column.Block, width int64) error {
	switch width {
	case 0:
		s.join.Readings(b, 0, b.Len())
	default:
		s.join.Summaries(b, 0, b.Len(), width)
	}
	if width == stepWidth {
		s.steps += b.Len()
	} else {
		s.rows += b.Len()
	}
	return nil
}

func (s *tally) Whole(from, to int64, sum rollup.Summary) error {
	s.wholes++
	s.join.Add(from, to, sum)
	return nil
}

func TestSynopsesSayWhatTheRowsSay(t *testing.T) {
	rounds.Alone(t)
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	random := rand.New(rand.NewPCG(31, 32))
	begin := time.Date(2026, 3, 27, 0, 0, 0, 0, time.UTC).UnixNano() // the month turns inside
	var sawWhole, sawSteps bool
	for _, kind := range []series.Kind{series.Gauge, series.Counter, series.State, series.Bearing} {
		def := series.Definition{
			Path:     series.Path("a/b/" + string(kind)),
			Kind:     kind,
			FreshFor: 200 * time.Second,
			Wrap:     360,
		}
		ids, err := s.Define(t.Context(), []series.Definition{def})
		require.NoError(t, err)
		raw := column.New(1, 0)
		for at := begin; at < begin+int64(12*24*time.Hour); at += 1e9 + random.Int64N(110e9) {
			raw.Add(at, float64(random.IntN(15))*24)
			if random.IntN(500) == 0 {
				at += random.Int64N(int64(2 * time.Hour))
			}
		}
		minutes := rollup.NewBlock(kind, 0)
		for at := series.Minute.Start(begin); at < raw.Times[raw.Len()-1]; at += int64(series.Minute) {
			if sum := rollup.Fold(raw, at, at+int64(series.Minute), &def); sum.Count > 0 {
				sum.AddTo(&minutes, at, kind)
			}
		}
		for k := 0; k < minutes.Len(); { // several chunks, the last rows in the tray
			n := min(minutes.Len(), k+1+random.IntN(6000))
			require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{
				{Series: ids[0], Tier: series.Minute, Rows: minutes.Rows(k, n)},
				{Series: ids[0], Rows: raw.Between(minutes.Times[k], minutes.Times[n-1]+int64(series.Minute))},
			}}))
			if n < minutes.Len() {
				require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
			}
			k = n
		}
		for range 30 {
			from := begin + int64(random.IntN(11*24*4))*stepWidth
			to := from + int64(1+random.IntN(11*24*4))*stepWidth
			for _, tier := range []series.Tier{series.Minute, series.Readings} {
				want := engine.Wanted{Tier: tier, From: from, To: to, Need: rollup.NeedAll}
				slow := &tally{join: rollup.NewJoiner(&def, rollup.NeedAll)}
				slow.join.Begin(from)
				require.NoError(t, s.Scan(t.Context(), ids[0], want, slow))
				want.Cut, want.Steps = func(int64, int64) bool { return false }, true
				quick := &tally{join: rollup.NewJoiner(&def, rollup.NeedAll)}
				quick.join.Begin(from)
				require.NoError(t, s.Scan(t.Context(), ids[0], want, quick))
				a, b := slow.join.End(to), quick.join.End(to)
				require.InDelta(t, a.Mean, b.Mean, 1e-9, kind)
				require.InDelta(t, a.M2, b.M2, 1e-9*(1+a.M2))
				require.InDelta(t, a.Held, b.Held, 1e-9)
				require.InDelta(t, a.North, b.North, 1e-6)
				require.InDelta(t, a.East, b.East, 1e-6)
				a.Mean, a.M2, a.Held, a.North, a.East = b.Mean, b.M2, b.Held, b.North, b.East
				require.Equal(t, b, a)
				assert.Zero(t, slow.wholes+slow.steps)
				sawWhole, sawSteps = sawWhole || quick.wholes > 0, sawSteps || quick.steps > 0
			}
		}
		var chunks []sqlite.Chunk
		require.NoError(t, writer(t, s).Where("series = ?", ids[0]).Find(&chunks).Error)
		for _, c := range chunks {
			assert.Equal(t, time.Unix(0, c.FirstAt).UTC().Month(), time.Unix(0, c.LastAt).UTC().Month(),
				"no chunk reaches over the turn of a month")
		}
	}
	whole(t, s)
	assert.True(t, sawWhole && sawSteps)
}

func TestAScanThatIsCancelledEndsWithThatError(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	rows := column.New(1, 0)
	for i := range 30_000 {
		rows.Add(int64(i), float64(i))
	}
	require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rows}}}))
	require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
	for after := range 4 { // before anything, and after so many blocks
		ctx, cancel := context.WithCancel(t.Context())
		sink := &cancelling{cancel: cancel, after: after}
		sink.count()
		assert.ErrorIs(t, s.Scan(ctx, id, engine.Wanted{To: 1 << 40}, sink), context.Canceled)
	}
}

// cancelling cancels once it has got so many blocks.
type cancelling struct {
	cancel     func()
	got, after int
}

func (c *cancelling) count() {
	if c.got == c.after {
		c.cancel()
	}
	c.got++
}

func (c *cancelling) Rows(column.Block, int64) error           { c.count(); return nil }
func (c *cancelling) Whole(int64, int64, rollup.Summary) error { c.count(); return nil }

func TestColumnsThatAreNotNeededAreNotDecoded(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	rows := rollup.NewBlock(series.Gauge, 0)
	for i := range int64(100) {
		rollup.Summary{Count: 6, Mean: float64(i), Min: float64(i) - 1, Max: float64(i) + 1}.AddTo(&rows,
			i*int64(series.Minute), series.Gauge)
	}
	require.NoError(t,
		s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Tier: series.Minute, Rows: rows}}}))
	require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
	// A part that nobody needs may be damaged, and nobody notices.
	require.NoError(t, writer(t, s).Exec("UPDATE chunks SET part1 = x'00', part2 = x'00'").Error)
	need := rollup.Wants(rollup.ColMean, rollup.ColMax)
	var got gathered
	require.NoError(t, s.Scan(t.Context(), id, engine.Wanted{
		Tier: series.Minute,
		From: 0,
		To:   math.MaxInt64,
		Need: need,
		Keep: true,
	}, &got))
	assert.Equal(t, 100, got.rows.Len())
	for col, values := range got.rows.Cols {
		assert.Equal(t, need.Has(col), values != nil, col)
	}
	assert.Zero(t, s.Damaged())
	_, err := s.Read(t.Context(), id, series.Minute, 0, math.MaxInt64)
	require.NoError(t, err)
	assert.EqualValues(t, 1, s.Damaged())
}

func TestTheLastReadingBefore(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	at := func(when int64, want any) {
		t.Helper()
		_, value, ok, err := s.LastBefore(t.Context(), id, series.Readings, when)
		require.NoError(t, err)
		if want == nil {
			assert.False(t, ok)
		} else {
			assert.Equal(t, want, value)
		}
	}
	at(50, nil)
	require.NoError(t,
		s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(10, 1, 20, 2, 30, 3)}}}))
	for range 2 { // in the tray, then sealed
		at(10, nil)
		at(11, 1.0)
		at(25, 2.0)
		at(99, 3.0)
		require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
	}
	require.NoError(t,
		s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(15, 9, 40, 4)}}})) // late, and newer
	at(16, 9.0)
	at(21, 2.0)
	at(40, 3.0)
	at(41, 4.0)
}

func TestTricklesMakeFewChunksAndFewRewrites(t *testing.T) {
	rounds.Alone(t)
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	written, most := 0, int64(0)
	var before uint64
	for i := range 600 {
		rows := column.New(1, 0)
		for k := range 5 {
			rows.Add(int64(5*i+k)*1e9, 1)
		}
		require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rows}}}))
		require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
		var newest sqlite.Chunk
		require.NoError(t, writer(t, s).Order("id desc").Take(&newest).Error)
		require.Greater(t, newest.ID, before)
		before = newest.ID
		written += newest.Count
		var count int64
		require.NoError(t, writer(t, s).Model(&sqlite.Chunk{}).Count(&count).Error)
		most = max(most, count)
	}
	assert.LessOrEqual(t, most, int64(16))
	assert.Less(t, float64(written)/3000, 6.0,
		"times each row was written; filling up the last chunk each time would make 300")
	rows, err := s.Read(t.Context(), id, series.Readings, 0, math.MaxInt64)
	require.NoError(t, err)
	assert.Equal(t, 3000, rows.Len())
}

func TestTheEndsOfTimeAreSealedToo(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	b := column.New(1, 0)
	for _, at := range []int64{math.MinInt64 + 1, -1, 0, math.MaxInt64 - 3, math.MaxInt64 - 2} {
		b.Add(at, 1)
	}
	require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: b}}}))
	require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
	got, err := s.Read(t.Context(), id, series.Readings, math.MinInt64, math.MaxInt64)
	require.NoError(t, err)
	assert.Equal(t, b.Times, got.Times)
}

func TestOldChunksAreDroppedWhole(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id, other := define(t, s, "a/b/c"), define(t, s, "a/b/d")
	begin := time.Date(2026, 1, 20, 0, 0, 0, 0, time.UTC)
	rows := column.New(1, 0)
	for i := range 60 * 24 { // sixty days, hourly
		rows.Add(begin.Add(time.Duration(i)*time.Hour).UnixNano(), float64(i))
	}
	require.NoError(t,
		s.Append(t.Context(),
			engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rows}, {Series: other, Rows: rows}}}))
	require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
	gone, err := s.Drop(t.Context(), id, series.Readings, time.Date(2026, 3, 5, 0, 0, 0, 0, time.UTC), time.Time{})
	require.NoError(t, err)
	assert.Equal(t, (12+28)*24, gone, "January and February; March is not over")
	left, err := s.Read(t.Context(), id, series.Readings, 0, math.MaxInt64)
	require.NoError(t, err)
	assert.Equal(t, time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC).UnixNano(), left.Times[0])
	left, err = s.Read(t.Context(), other, series.Readings, 0, math.MaxInt64)
	require.NoError(t, err)
	assert.Equal(t, rows.Len(), left.Len())
}

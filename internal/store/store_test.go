package store

import (
	"bytes"
	"log/slog"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/rounds"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/records"
	"nexocumula/internal/store/sqlite"
	"nexocumula/internal/store/storetest"
)

func open(t *testing.T, path string) *Store {
	t.Helper()
	s, err := Open(path, slog.New(slog.DiscardHandler), Options{})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

// writer reaches the tables below what the store offers.
func writer(t *testing.T, s *Store) (db *gorm.DB) {
	t.Helper()
	require.NoError(t, s.file.Write(func(w sqlite.Writer) error {
		db = w.DB()
		return nil
	}))
	return db
}

// fullChunk is how many rows a full chunk has.
const fullChunk = 8192

// gathered is a sink that keeps all rows.
type gathered struct{ rows column.Block }

func (g *gathered) Rows(b column.Block, _ int64) error {
	g.rows.Append(b)
	return nil
}

func (g *gathered) Whole(int64, int64, rollup.Summary) error { return nil }

func define(t *testing.T, s *Store, path series.Path) uint32 {
	t.Helper()
	ids, err := s.Define(t.Context(), []series.Definition{{
		Path:     path,
		Kind:     series.Gauge,
		Unit:     "Cel",
		FreshFor: time.Minute,
	}})
	require.NoError(t, err)
	return ids[0]
}

// Blocks as the tests write them.
var rowsOf, minutesOf = storetest.Readings, storetest.Minutes

// reopen opens a copy of the store's files as they are now, as after a power cut: nothing
// of them was closed.
func reopen(t *testing.T, s *Store) *Store {
	t.Helper()
	copied := filepath.Join(t.TempDir(), "s.db")
	for _, part := range []string{"", "-wal", "-watermark"} {
		data, err := os.ReadFile(s.Path() + part)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(copied+part, data, 0o600))
	}
	require.NoError(t, s.Close())
	return open(t, copied)
}

func TestTheStoreIsWhatAMapWouldBeWhateverHappens(t *testing.T) {
	rounds.Alone(t)
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	random := rand.New(rand.NewPCG(11, 12))
	ids := []uint32{define(t, s, "a/b/c"), define(t, s, "a/b/d")}
	model := map[uint32]map[int64]float64{ids[0]: {}, ids[1]: {}}
	check := func() {
		for _, id := range ids {
			from, to := random.Int64N(60_000), random.Int64N(60_000)
			got, err := s.Read(t.Context(), id, series.Readings, from, to)
			require.NoError(t, err)
			var times []int64
			for _, at := range slices.Sorted(maps.Keys(model[id])) {
				if at >= from && at < to {
					times = append(times, at)
				}
			}
			require.Equal(t, len(times), got.Len())
			for i, at := range times {
				require.Equal(t, at, got.Times[i])
				require.Equal(t, model[id][at], got.Cols[0][i])
			}
		}
	}
	live, steps := int64(0), rounds.Of(300)
	for range steps {
		switch random.IntN(8) {
		case 0:
			require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
		case 1:
			s = reopen(t, s)
		default:
			var batch engine.Batch
			for _, id := range ids {
				add := column.New(1, 0)
				for range random.IntN(700) {
					at := live
					live += random.Int64N(3)
					if random.IntN(50) == 0 {
						at = random.Int64N(live + 1) // late, or once more
					}
					add.Add(at, random.Float64())
				}
				add = add.Normalize()
				for i, at := range add.Times {
					model[id][at] = add.Cols[0][i]
				}
				batch.Entries = append(batch.Entries, engine.Entry{Series: id, Tier: series.Readings, Rows: add})
			}
			require.NoError(t, s.Append(t.Context(), batch))
		}
		check()
	}
	var chunks []sqlite.Chunk
	require.NoError(t, writer(t, s).Order("series, first_at").Find(&chunks).Error)
	assert.Greater(t, len(chunks), steps/30)
	for i := 1; i < len(chunks); i++ {
		if chunks[i].Series == chunks[i-1].Series {
			assert.Greater(t, chunks[i].FirstAt, chunks[i-1].LastAt, "chunks never overlap")
		}
	}
}

func TestABatchIsWrittenWholeOrNotAtAll(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	require.NoError(t,
		writer(t, s).Exec("CREATE TRIGGER full BEFORE INSERT ON rejects BEGIN SELECT RAISE(ABORT, 'disk is full'); END").Error)
	err := s.Append(t.Context(), engine.Batch{
		Entries: []engine.Entry{{Series: id, Tier: series.Readings, Rows: rowsOf(5, 1)}},
		Also:    []sqlite.Change{s.Rejects.Add([]reading.Reject{{Reason: "r"}})}, // comes last
	})
	require.Error(t, err)
	s = reopen(t, s)
	rows, err := s.Read(t.Context(), id, series.Readings, 0, 100)
	require.NoError(t, err)
	assert.Zero(t, rows.Len())
	kept, err := s.Rejects.List(records.Wanting{Most: 10})
	require.NoError(t, err)
	assert.Empty(t, kept)
}

func TestTheCatalogueKnowsFirstAndLatest(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	require.NoError(t,
		s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(50, 1, 60, 2)}}}))
	require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(40, 9)}}}))
	for _, when := range []string{"in the tray", "after a restart", "sealed", "sealed and restarted"} {
		got, ok := s.Get(id)
		require.True(t, ok)
		assert.Equal(t, [3]any{int64(40), int64(60), 2.0}, [3]any{got.FirstSeen, got.LastTime, got.LastValue}, when)
		if when == "after a restart" {
			require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
		} else {
			s = reopen(t, s)
		}
	}
	define(t, s, "a/a/c")
	changed, err := s.Define(t.Context(), []series.Definition{{
		Path:     "a/b/c",
		Kind:     series.Gauge,
		Unit:     "kWh",
		FreshFor: time.Hour,
	}})
	require.NoError(t, err)
	assert.Equal(t, id, changed[0])
	_, err = s.Define(t.Context(), []series.Definition{{Path: "a/b/c", Kind: series.Counter}})
	assert.ErrorContains(t, err, "was recorded as a gauge and cannot become a counter")
	everything, err := series.ParseSelector("#")
	require.NoError(t, err)
	list := s.List(everything)
	assert.Equal(t, series.Path("a/a/c"), list[0].Path)
	assert.Equal(t, "kWh", list[1].Unit)
	assert.Equal(t, int64(60), list[1].LastTime, "a new definition does not forget the values")
}

func TestADamagedRowIsSkippedAndCounted(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	for i := range 3 {
		rows := column.New(1, 0)
		for k := range fullChunk {
			rows.Add(int64(i*fullChunk+k), float64(k))
		}
		require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rows}}}))
		require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
	}
	var chunks []sqlite.Chunk
	require.NoError(t, writer(t, s).Order("first_at").Find(&chunks).Error)
	require.Len(t, chunks, 3)
	bad := bytes.Clone(chunks[1].Part0)
	bad[len(bad)/2] ^= 4
	require.NoError(t, writer(t, s).Model(&chunks[1]).Update("part0", bad).Error)
	for range 2 { // told once
		rows, err := s.Read(t.Context(), id, series.Readings, 0, 1<<40)
		require.NoError(t, err)
		assert.Equal(t, 2*fullChunk, rows.Len())
		assert.EqualValues(t, 1, s.Damaged())
	}
	var aside sqlite.Damaged
	require.NoError(t, writer(t, s).Take(&aside).Error)
	assert.Equal(t, []any{"chunks", id, fullChunk, chunks[1].FirstAt},
		[]any{aside.Place, aside.Series, aside.Count, aside.FirstAt})
	assert.Contains(t, aside.Reason, "checksum")
	assert.True(t, bytes.HasSuffix(aside.Raw, bad), "the bytes are kept as they were found")

	bad = bytes.Clone(chunks[2].Part0)
	bad[len(bad)/2] ^= 4
	require.NoError(t, writer(t, s).Model(&chunks[2]).Update("part0", bad).Error)
	require.NoError(t,
		s.Append(t.Context(),
			engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(float64(2*fullChunk+5), 1)}}})) // late, for the damaged one
	require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
	rows, err := s.Read(t.Context(), id, series.Readings, 0, 1<<40)
	require.NoError(t, err)
	assert.Equal(t, fullChunk+1, rows.Len())

	require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(1e6, 1)}}}))
	require.NoError(t, writer(t, s).Exec("UPDATE journal SET payload = ?", []byte{1, 2, 3}).Error)
	s = reopen(t, s)
	assert.EqualValues(t, 3, s.Damaged(), "the rest of the store opens all the same")
	s = reopen(t, s)
	assert.EqualValues(t, 3, s.Damaged(), "and nothing damaged is forgotten, nor counted twice")
}

func TestAFileThatIsNoStoreIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s.db")
	s := open(t, path)
	id := define(t, s, "a/b/c")
	require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(1, 1)}}}))
	require.NoError(t, s.Close())
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	for content, wrong := range map[string]string{
		string(whole[:len(whole)-5000]):    "was cut short",
		string(whole[:20]):                 "less than a header",
		strings.Repeat("no database ", 99): "no file of nexocumula",
	} {
		require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
		_, err = Open(path, slog.New(slog.DiscardHandler), Options{})
		assert.ErrorContains(t, err, wrong)
		after, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, content, string(after), "what is refused is not touched")
	}
}

func TestAStoreOfANewerVersionIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s.db")
	s := open(t, path)
	require.NoError(t, writer(t, s).Exec("INSERT INTO migrations (id) VALUES ('9999-from-the-future')").Error)
	require.NoError(t, s.Close())
	_, err := Open(path, slog.New(slog.DiscardHandler), Options{})
	assert.ErrorContains(t, err, "written by another version")
}

func TestOnlyTheNewestRejectsAreKept(t *testing.T) {
	rounds.Alone(t)
	const keepRejects = 20_000
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	many := make([]reading.Reject, keepRejects/2)
	for range 3 {
		require.NoError(t, s.Append(t.Context(), engine.Batch{Also: []sqlite.Change{s.Rejects.Add(many)}}))
	}
	require.NoError(t, s.Append(t.Context(), engine.Batch{Also: []sqlite.Change{s.Rejects.Add([]reading.Reject{{
		Source: "own",
		Place:  "p",
		Reason: "r",
		Raw:    []byte{1},
		Time:   7,
	}})}}))
	var kept int64
	require.NoError(t, writer(t, s).Table("rejects").Count(&kept).Error)
	assert.EqualValues(t, keepRejects, kept)
	own, err := s.Rejects.List(records.Wanting{Source: "own", Most: 10})
	require.NoError(t, err)
	assert.Equal(t, []reading.Reject{{
		ID:     keepRejects + 10_001,
		Source: "own",
		Place:  "p",
		Reason: "r",
		Raw:    []byte{1},
		Time:   7,
		Rule:   reading.Unreadable,
	}}, own)
}

func TestReadersAndWritersDoNotDisturbEachOther(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	var done sync.WaitGroup
	stop := make(chan struct{})
	for range 3 {
		done.Go(func() {
			for before := 0; ; {
				rows, err := s.Read(t.Context(), id, series.Readings, 0, 1<<40)
				if !assert.NoError(t, err) || !assert.GreaterOrEqual(t, rows.Len(), before,
					"rows never vanish, not even while they are sealed") {
					return
				}
				before = rows.Len()
				select {
				case <-stop:
					return
				default:
				}
			}
		})
	}
	for i := range 200 {
		assert.NoError(t,
			s.Append(t.Context(),
				engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(float64(2*i), 1, float64(2*i+1), 2)}}}))
		if i%10 == 0 {
			assert.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
		}
	}
	close(stop)
	done.Wait()
}

func TestASealThatFailsChangesNothing(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	require.NoError(t,
		s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(10, 1, 20, 2)}}}))
	require.NoError(t,
		writer(t, s).Exec("CREATE TRIGGER full BEFORE INSERT ON chunks BEGIN SELECT RAISE(ABORT, 'disk is full'); END").Error)
	begun := make(chan struct{})
	failed := make(chan error, 1)
	go func() { failed <- s.Seal(t.Context(), engine.Sealing{Begun: begun}) }()
	<-begun
	require.NoError(t,
		s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(15, 9, 20, 3)}}})) // meanwhile
	assert.ErrorContains(t, <-failed, "disk is full")
	same := func(when string) {
		rows, err := s.Read(t.Context(), id, series.Readings, 0, 100)
		require.NoError(t, err)
		assert.Equal(t, []int64{10, 15, 20}, rows.Times, when)
		assert.Equal(t, []float64{1, 9, 3}, rows.Cols[0], when)
	}
	same("after the failure")
	assert.Equal(t, 3, s.UnsealedRows())
	s = reopen(t, s)
	same("after a restart")
	require.NoError(t, writer(t, s).Exec("DROP TRIGGER full").Error)
	require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
	assert.Zero(t, s.UnsealedRows())
	same("sealed at last")
}

func TestASeriesWhoseLatestValueIsMinusZeroStays(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	require.NoError(t,
		s.Append(t.Context(),
			engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(1, 7, 2, math.Copysign(0, -1))}}}))
	require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
	for range 2 {
		s = reopen(t, s)
		rows, err := s.Read(t.Context(), id, series.Readings, 0, 100)
		require.NoError(t, err)
		assert.Equal(t, 2, rows.Len())
		assert.Zero(t, s.Damaged())
	}
}

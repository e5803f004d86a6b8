package store

import (
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"syscall"
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

// crashed returns the folder of a store that was written to and never closed: 50 commits, the
// last of which the watermark knows.
func crashed(t *testing.T, damage func(folder string)) (*Store, []string) {
	t.Helper()
	now := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	folder := t.TempDir()
	s, err := Open(filepath.Join(folder, "s.db"), slog.New(slog.DiscardHandler),
		Options{Clock: func() time.Time { return now }})
	require.NoError(t, err)
	id := define(t, s, "a/b/c")
	for i := range 50 {
		now = now.Add(time.Minute)
		require.NoError(t,
			s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(float64(i), 1)}}}))
	}
	to := t.TempDir()
	for _, part := range []string{"", "-wal", "-watermark"} {
		data, err := os.ReadFile(s.Path() + part)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(to, "s.db"+part), data, 0o600))
	}
	require.NoError(t, s.Close())
	damage(to)
	s = open(t, filepath.Join(to, "s.db"))
	missing, err := s.Missing()
	require.NoError(t, err)
	assert.EqualValues(t, len(missing), s.Damaged())
	return s, missing
}

func countOf(t *testing.T, s *Store) int {
	rows, err := s.Read(t.Context(), 1, series.Readings, 0, 1<<40)
	require.NoError(t, err)
	return rows.Len()
}

func TestACrashLosesNothingAndReportsNothing(t *testing.T) {
	s, missing := crashed(t, func(string) {})
	assert.Empty(t, missing)
	assert.Equal(t, 50, countOf(t, s))
	again := open(t, closed(t, s))
	missing, err := again.Missing()
	require.NoError(t, err)
	assert.Empty(t, missing)
}

func closed(t *testing.T, s *Store) string {
	require.NoError(t, s.Close())
	return s.Path()
}

func TestWhatFilesThatWereRemovedOrCutTookWithThemIsSaid(t *testing.T) {
	rounds.Alone(t)
	log := func(folder string) string { return filepath.Join(folder, "s.db-wal") }
	for name, test := range map[string]struct {
		damage func(folder string)
		says   string
	}{
		"the log removed": {
			func(f string) { require.NoError(t, os.Remove(log(f))) }, "is gone, although the store was not closed",
		},
		"the log emptied": {
			func(f string) { require.NoError(t, os.Truncate(log(f), 0)) },
			"is gone, although the store was not closed",
		},
		"the log cut": {
			func(f string) { require.NoError(t, os.Truncate(log(f), 20_000)) }, "was cut from at least",
		},
		"a bit flipped": {func(f string) {
			data, err := os.ReadFile(log(f))
			require.NoError(t, err)
			data[len(data)/2] ^= 16
			require.NoError(t, os.WriteFile(log(f), data, 0o600))
		}, "transactions in it cannot be read and are missing"},
		"the header's bit flipped": {func(f string) {
			data, err := os.ReadFile(log(f))
			require.NoError(t, err)
			data[17] ^= 1
			require.NoError(t, os.WriteFile(log(f), data, 0o600))
		}, "its header does not match its checksum"},
		"all emptied": {func(f string) {
			require.NoError(t, os.Remove(log(f)))
			require.NoError(t, os.Truncate(filepath.Join(f, "s.db"), 0))
		}, "the store is empty, but 50 commits had been made"},
		"another store": {func(f string) {
			other := open(t, filepath.Join(t.TempDir(), "o.db"))
			id := define(t, other, "x/y")
			require.NoError(t,
				other.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(1, 1)}}}))
			data, err := os.ReadFile(closed(t, other))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(f, "s.db"), data, 0o600))
			require.NoError(t, os.Remove(log(f)))
		}, "is another than the one that was here"},
		"the watermark damaged": {func(f string) {
			require.NoError(t, os.WriteFile(filepath.Join(f, "s.db-watermark"), []byte("x"), 0o600))
		}, "so nothing says whether commits are missing"},
	} {
		t.Run(name, func(t *testing.T) {
			s, missing := crashed(t, test.damage)
			require.NotEmpty(t, missing)
			assert.Contains(t, strings.Join(missing, "\n"), test.says)
			again := open(t, closed(t, s))
			still, err := again.Missing()
			require.NoError(t, err)
			assert.Equal(t, missing, still, "it stays visible, and is said once")
		})
	}
}

func TestAnOlderCopyIsRecognised(t *testing.T) {
	folder := t.TempDir()
	s := open(t, filepath.Join(folder, "s.db"))
	id := define(t, s, "a/b/c")
	require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(1, 1)}}}))
	path := closed(t, s)
	older, err := os.ReadFile(path)
	require.NoError(t, err)
	s = open(t, path)
	require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(2, 1)}}}))
	closed(t, s)
	require.NoError(t, os.WriteFile(path, older, 0o600))
	missing, err := open(t, path).Missing()
	require.NoError(t, err)
	require.Len(t, missing, 1)
	assert.Contains(t, missing[0], "the store has 1 commits, but 2 had been made")
}

func TestDamageBesideThePayloadsIsFound(t *testing.T) {
	rounds.Alone(t)
	for _, change := range []string{
		"series = 2", "tier = 7", "first_at = first_at + 1", "last_at = last_at - 1", "row_count = row_count - 1",
		"steps = 9",
	} {
		s := open(t, filepath.Join(t.TempDir(), "s.db"))
		id, other := define(t, s, "a/b/c"), define(t, s, "a/b/d")
		require.NoError(t,
			s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(1, 1, 2, 2, 3, 3)}}}))
		require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
		require.NoError(t, writer(t, s).Exec("UPDATE chunks SET "+change).Error)
		s = reopen(t, s)
		for _, one := range []uint32{id, other} {
			for _, tier := range []series.Tier{series.Readings, 7} {
				rows, err := s.Read(t.Context(), one, tier, 0, 100)
				require.NoError(t, err)
				assert.Zero(t, rows.Len(), change)
			}
		}
		assert.EqualValues(t, 1, s.Damaged(), change)
	}
	for change, back := range map[string]uint32{
		"definition = replace(definition, 'Cel', 'K')": 0,
		"kind = 'counter'": 1,
		"path = 'a/b/x'":   1,
	} {
		s := open(t, filepath.Join(t.TempDir(), "s.db"))
		id := define(t, s, "a/b/c")
		require.NoError(t,
			s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(1, 1)}}}))
		require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
		require.NoError(t, writer(t, s).Exec("UPDATE series SET "+change).Error)
		s = reopen(t, s)
		assert.EqualValues(t, 1, s.Damaged(), change)
		assert.Zero(t, s.Count())
		require.Len(t, s.SetAside(), 1)
		assert.Contains(t, s.SetAside()[0], "the definition of a/b/")
		assert.Equal(t, id+back, define(t, s, "a/b/c"), "%s: what is left must not become another's", change)
		rows, err := s.Read(t.Context(), id, series.Readings, 0, 100)
		require.NoError(t, err)
		if back == 0 {
			assert.Equal(t, 1, rows.Len(), change)
			assert.Empty(t, s.SetAside())
			assert.Zero(t, s.Damaged())
			known, _ := reopen(t, s).Get(id)
			assert.Equal(t, []any{int64(1), 1.0, int64(1), true},
				[]any{known.LastTime, known.LastValue, known.FirstSeen, known.Collected})
		}
	}
}

func TestLatestValuesThatAreDamagedAreFoundAgain(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	ids := []uint32{define(t, s, "a/b/c"), define(t, s, "a/b/d"), define(t, s, "a/b/e")}
	for i, id := range ids[:2] {
		rows := rowsOf(float64(i+1), 1, float64(i+2), float64(i))
		require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rows}}}))
	}
	require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
	s = reopen(t, s)
	before := s.List(series.Everything())
	for _, change := range []string{"payload = x'0100000001'", "payload = substr(payload, 1, 20)", "payload = zeroblob(30)", "payload = x''"} {
		require.NoError(t, writer(t, s).Exec("UPDATE latest SET "+change).Error)
		s = reopen(t, s)
		assert.Zero(t, s.Damaged(), change)
		assert.Equal(t, before, s.List(series.Everything()), change)
		s = reopen(t, s)
		assert.Equal(t, before, s.List(series.Everything()), change)
	}
}

// A program before this one gave such a series a new id with its next reading, and left its chunks behind.
func TestRowsOfASeriesThatGotAnotherIDBecomePartOfItAgain(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	require.NoError(t,
		s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(1, 1, 2, 2, 3, 3)}}}))
	require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
	require.NoError(t, writer(t, s).Exec("UPDATE series SET definition = '{}'").Error)
	s = reopen(t, s)
	var note sqlite.Damaged
	require.NoError(t, writer(t, s).Take(&note).Error)
	require.NoError(t, writer(t, s).Delete(&note).Error)
	s = reopen(t, s)
	require.NoError(t, writer(t, s).Create(&note).Error)
	again := define(t, s, "a/b/c")
	require.NotEqual(t, id, again)
	require.NoError(t,
		s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: again, Rows: rowsOf(3, 30, 4, 40)}}}))
	s = reopen(t, s)
	rows, err := s.Read(t.Context(), again, series.Readings, 0, 100)
	require.NoError(t, err)
	assert.Equal(t, []float64{1, 2, 30, 40}, rows.Cols[0])
	assert.Empty(t, s.SetAside())
	assert.Zero(t, s.Damaged())
	s = reopen(t, s)
	rows, err = s.Read(t.Context(), again, series.Readings, 0, 100)
	require.NoError(t, err)
	assert.Equal(t, 4, rows.Len())
}

func TestTroublesOfTheStoreAreReported(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s.db")
	s := open(t, path)
	id := define(t, s, "a/b/c")
	require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(1, 1)}}}))
	require.NoError(t,
		writer(t, s).Exec("CREATE TRIGGER full BEFORE INSERT ON chunks BEGIN SELECT RAISE(ABORT, 'disk is full'); END").Error)
	require.Error(t, s.Seal(t.Context(), engine.Sealing{}))
	require.Len(t, s.Troubles(), 1)
	assert.Contains(t, s.Troubles()[0], "sealing the store: ")
	require.NoError(t, writer(t, s).Exec("DROP TRIGGER full").Error)
	require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
	assert.Empty(t, s.Troubles(), "it is mended")
	require.ErrorIs(t, s.Scan(t.Context(), id, engine.Wanted{From: 0, To: 10}, enough{}), errEnough)
	assert.Empty(t, s.Troubles(), "who has enough ends a scan, and nothing is wrong")
	require.NoError(t, writer(t, s).Exec("ALTER TABLE chunks RENAME TO elsewhere").Error)
	_, err := s.Read(t.Context(), id, series.Readings, 0, 10)
	require.Error(t, err)
	assert.Contains(t, s.Troubles()[0], "no such table")
	require.NoError(t, s.Close())

	data, err := os.ReadFile(path) // pages that SQLite itself finds damaged
	require.NoError(t, err)
	for i := 4096; i < len(data); i++ {
		data[i] = 0xee
	}
	require.NoError(t, os.WriteFile(path, data, 0o600))
	_, err = Open(path, slog.New(slog.DiscardHandler), Options{})
	assert.ErrorContains(t, err, "restore it from a copy")
}

var errEnough = errors.New("enough")

// enough is a sink that wants nothing more.
type enough struct{}

func (enough) Rows(column.Block, int64) error           { return errEnough }
func (enough) Whole(int64, int64, rollup.Summary) error { return errEnough }

func TestAFolderThatCannotBeWrittenIsSaidToBe(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "taken")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err := Open(filepath.Join(file, "s.db"), slog.New(slog.DiscardHandler), Options{})
	assert.ErrorContains(t, err, "creating the store's folder")
	require.NoError(t, os.Mkdir(filepath.Join(folder, "s.db-probe"), 0o700)) // also root cannot write a file there
	_, err = Open(filepath.Join(folder, "s.db"), slog.New(slog.DiscardHandler), Options{})
	assert.ErrorContains(t, err, "cannot be written")
	assert.NotContains(t, err.Error(), "restore")
}

// A start that fails for something else must not leave a report behind that stays for good.
func TestAFailedStartLeavesNoReportBehind(t *testing.T) {
	for name, fail := range map[string]func(path string) (mend func()){
		"a log that cannot be read": func(path string) func() {
			require.NoError(t, os.Rename(path+"-wal", path+"-kept"))
			require.NoError(t, os.Mkdir(path+"-wal", 0o700)) // also root cannot read it
			require.NoError(t, os.WriteFile(filepath.Join(path+"-wal", "x"), nil, 0o600))
			return func() {
				require.NoError(t, os.RemoveAll(path+"-wal"))
				require.NoError(t, os.Rename(path+"-kept", path+"-wal"))
			}
		},
		"a watermark that cannot be read": func(path string) func() {
			require.NoError(t, os.Rename(path+"-watermark", path+"-kept"))
			require.NoError(t, os.Mkdir(path+"-watermark", 0o700))
			return func() {
				require.NoError(t, os.Remove(path+"-watermark"))
				require.NoError(t, os.Rename(path+"-kept", path+"-watermark"))
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			_, missing := crashed(t, func(folder string) {
				path := filepath.Join(folder, "s.db")
				mend := fail(path)
				_, err := Open(path, slog.New(slog.DiscardHandler), Options{})
				require.Error(t, err)
				mend()
			})
			assert.Empty(t, missing)
		})
	}
}

// A power cut while the first watermark is made leaves none, or a whole one.
func TestTheFirstWatermarkIsWholeOrNotThere(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s.db")
	s := open(t, path)
	id := define(t, s, "a/b/c")
	require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(1, 1)}}}))
	require.NoError(t, os.Rename(path+"-watermark", path+"-watermark-new")) // it had no name yet,
	require.NoError(t, os.Truncate(path+"-watermark-new", 0))               // and nothing of it was on disk
	s = open(t, closed(t, s))
	missing, err := s.Missing()
	require.NoError(t, err)
	assert.Empty(t, missing)
	text, err := os.ReadFile(path + "-watermark")
	require.NoError(t, err)
	assert.Contains(t, string(text), `"open":true`)
}

func TestFilesOfTheStoreAreItsAccountsOnly(t *testing.T) {
	before := syscall.Umask(0)
	defer syscall.Umask(before)
	path := filepath.Join(t.TempDir(), "s.db")
	s := open(t, path)
	id := define(t, s, "a/b/c")
	require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(1, 1)}}}))
	check := func() {
		for _, part := range []string{"", "-wal", "-shm", "-watermark"} {
			info, err := os.Stat(path + part)
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), part)
		}
	}
	check()
	closed(t, s)
	require.NoError(t, os.Chmod(path, 0o644))
	require.NoError(t, os.Chmod(path+"-watermark", 0o640))
	open(t, path)
	check()
}

func TestFreedPagesGoBackAFewAtATime(t *testing.T) {
	rounds.Alone(t)
	const giveBackMost, fewFreePages = 1024, 1024
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	noise := make([]float64, 0, 2000)
	for i := range 2000 {
		noise = append(noise, float64(i), 1/float64(i+3))
	}
	for k := range 200 {
		rows := rowsOf(noise...)
		for i := range rows.Times {
			rows.Times[i] += int64(k) * 2000
		}
		require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rows}}}))
	}
	require.NoError(t, s.Seal(t.Context(), engine.Sealing{}))
	_, err := s.Drop(t.Context(), id, series.Readings, time.Unix(0, 1<<40), time.Time{})
	require.NoError(t, err)
	require.NoError(t, s.Seal(t.Context(), engine.Sealing{})) // the journal was small this time
	pages := func() (n int) {
		require.NoError(t, writer(t, s).Raw("PRAGMA page_count").Scan(&n).Error)
		return n
	}
	before := pages()
	require.Greater(t, before, 2*giveBackMost)
	for now := before; now >= 2*fewFreePages; now = pages() {
		require.NoError(t, s.Tidy())
		require.Less(t, pages(), now)
		require.GreaterOrEqual(t, pages(), now-giveBackMost-16, "never many at a time")
	}
}

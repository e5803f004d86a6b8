package store

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
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

// faults looks through a store.
func faults(t *testing.T, path string) (out []engine.Fault, err error) {
	t.Helper()
	_, err = Verify(t.Context(), path, slog.New(slog.DiscardHandler), func(f engine.Fault) { out = append(out, f) },
		func(ctx context.Context, _ int) error { return ctx.Err() })
	return out, err
}

// whole looks through a store that is, which a test may still have open.
func whole(t *testing.T, s *Store) {
	t.Helper()
	found, err := faults(t, s.Path())
	require.NoError(t, err)
	assert.Empty(t, found)
}

// farm is a store with series of all kinds, chunks of readings and summaries, late rows in patches, and rows in the
// journal.
func farm(t *testing.T, path string) *Store {
	t.Helper()
	s := open(t, path)
	random := rand.New(rand.NewPCG(7, 8))
	begin := time.Date(2026, 2, 26, 0, 0, 0, 0, time.UTC).UnixNano()
	for _, kind := range []series.Kind{series.Gauge, series.Counter, series.State, series.Bearing} {
		def := series.Definition{Path: series.Path("long-mere/buoy/" + string(kind)), Kind: kind, FreshFor: 200 * time.Second, Wrap: 360}
		ids, err := s.Define(t.Context(), []series.Definition{def})
		require.NoError(t, err)
		raw := column.New(1, 0)
		for at := begin; at < begin+int64(6*24*time.Hour); at += int64(50*time.Second) + random.Int64N(110e9) {
			raw.Add(at, float64(random.IntN(15))*24)
		}
		minutes := rollup.NewBlock(kind, 0)
		for at := series.Minute.Start(begin); at < raw.Times[raw.Len()-1]; at += int64(series.Minute) {
			if sum := rollup.Fold(raw, at, at+int64(series.Minute), &def); sum.Count > 0 {
				sum.AddTo(&minutes, at, kind)
			}
		}
		put(t, s, ids[0], series.Readings, raw)
		put(t, s, ids[0], series.Minute, minutes)
		sealed(t, s)
		late := column.New(1, 1)
		late.Add(begin+int64(time.Hour)+5, 48)
		put(t, s, ids[0], series.Readings, late)
		sealed(t, s)
		late = column.New(1, 1)
		late.Add(begin+int64(8*24*time.Hour), 24)
		put(t, s, ids[0], series.Readings, late)
	}
	return s
}

func TestVerifyingFindsWhatIsNotAsItWasWritten(t *testing.T) {
	s := farm(t, filepath.Join(t.TempDir(), "s.db"))
	count, _ := patches(t, s)
	require.NotZero(t, count)
	whole(t, s) // while it is open
	db := writer(t, s)
	for _, change := range []struct{ table, set, place string }{
		{"chunks", "part0 = substr(part0, 1, length(part0) - 1)", "chunks"},
		{"chunks", "whole = zeroblob(30)", "chunks"},
		{"chunks", "step0 = part0", "chunks"},
		{"chunks", "last_at = last_at + 1", "chunks"},
		{"chunks", "row_count = row_count - 1", "chunks"},
		{"chunks", "series = 99", "chunks"},
		{"patches", "payload = zeroblob(40)", "patches"},
		{"patches", "first_at = first_at - 1", "patches"},
		{"journal", "payload = substr(payload, 1, 9)", "journal"},
		{"series", "definition = replace(definition, '200', '300')", "series"},
		{"latest", "payload = substr(payload, 2)", "latest"},
	} {
		key := "id"
		var id uint64
		query := "SELECT min(id) FROM " + change.table
		if strings.Contains(change.set, "step0") {
			query += " WHERE steps > 0"
		}
		require.NoError(t, db.Raw(query).Scan(&id).Error)
		require.NoError(t, db.Exec("CREATE TEMP TABLE kept AS SELECT * FROM "+change.table+" WHERE "+key+" = ?", id).Error)
		require.NoError(t, db.Exec("UPDATE "+change.table+" SET "+change.set+" WHERE "+key+" = ?", id).Error)
		found, err := faults(t, s.Path())
		require.NoError(t, err)
		require.NotEmpty(t, found, "%s: %s", change.table, change.set)
		assert.Equal(t, change.place, found[0].Place)
		assert.Equal(t, id, found[0].ID)
		assert.NotEmpty(t, found[0].Text)
		require.NoError(t, db.Exec("DELETE FROM "+change.table+" WHERE "+key+" = ?", id).Error)
		require.NoError(t, db.Exec("INSERT INTO "+change.table+" SELECT * FROM kept").Error)
		require.NoError(t, db.Exec("DROP TABLE kept").Error)
	}
	whole(t, s)

	// What agrees with its checksums may still be untrue.
	var c sqlite.Chunk
	require.NoError(t, db.Where("tier = 0").Order("first_at").First(&c).Error)
	twice := c
	twice.ID += 1000
	twice.Complete()
	require.NoError(t, db.Create(&twice).Error)
	found, err := faults(t, s.Path())
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Contains(t, found[0].Text, "it overlaps with chunk")
	assert.Equal(t, "long-mere/buoy/gauge", found[0].Series)
	require.NoError(t, db.Delete(&twice).Error)
	var other sqlite.Chunk
	require.NoError(t, db.Where("tier = 0 AND id <> ? AND series = ?", c.ID, c.Series).First(&other).Error)
	require.NoError(t, db.Exec("UPDATE chunks SET whole = ? WHERE id = ?", other.Whole, c.ID).Error)
	found, err = faults(t, s.Path())
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Contains(t, found[0].Text, "its synopsis says")
}

// content is all that a store says of its series, in words.
func content(t *testing.T, path string) (string, error) {
	t.Helper()
	db, err := sqlite.OpenReadOnly(path, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer func() { require.NoError(t, sqlite.CloseReadOnly(db)) }()
	var out strings.Builder
	for _, table := range []string{"series", "latest", "journal", "chunks", "patches"} {
		var rows []map[string]any
		if err := db.Raw("SELECT * FROM " + table + " ORDER BY id").Scan(&rows).Error; err != nil {
			return "", err
		}
		fmt.Fprintln(&out, table, rows)
	}
	return out.String(), nil
}

// Bits of the file turn over, or a stretch of it becomes zero: either that is found, or nothing that the store says of
// its series has changed.
func TestNoDamageOfTheFileIsSilent(t *testing.T) {
	rounds.Alone(t)
	s := farm(t, filepath.Join(t.TempDir(), "s.db"))
	path := s.Path()
	require.NoError(t, s.Close())
	good, err := os.ReadFile(path)
	require.NoError(t, err)
	says, err := content(t, path)
	require.NoError(t, err)
	random := rand.New(rand.NewPCG(uint64(len(good)), 1))
	flipped, silent := rounds.Of(400), 0
	for range flipped {
		bad := append([]byte(nil), good...)
		at := random.IntN(len(bad))
		if random.IntN(4) == 0 {
			clear(bad[at:min(len(bad), at+1+random.IntN(2000))])
		} else {
			bad[at] ^= 1 << random.IntN(8)
		}
		require.NoError(t, os.WriteFile(path, bad, 0o600))
		found, err := faults(t, path)
		if err != nil || len(found) > 0 {
			continue
		}
		silent++
		now, err := content(t, path)
		require.NoError(t, err)
		require.Equal(t, says, now, "damage at %d is not found", at)
	}
	assert.Less(t, silent, flipped/2, "most of the file matters")
}

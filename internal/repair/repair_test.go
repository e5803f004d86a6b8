package repair_test

import (
	"context"
	"database/sql"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/gap"
	"nexocumula/internal/core/series"
	"nexocumula/internal/repair"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
)

func TestALookThroughTheStoreSetsAsideWhatIsDamagedAndSaysWhatIsMissing(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s.db")
	open := func() *store.Store {
		st, err := store.Open(path, slog.New(slog.DiscardHandler), store.Options{})
		require.NoError(t, err)
		return st
	}
	st := open()
	ids, err := st.Define(t.Context(), []series.Definition{{Path: "long-mere/buoy-1/oxygen", Kind: series.Gauge, FreshFor: time.Minute}})
	require.NoError(t, err)
	rows, begin := column.New(1, 0), time.Now().Add(-time.Hour).Truncate(time.Minute)
	for i := range 300 {
		rows.Add(begin.Add(time.Duration(i)*10*time.Second).UnixNano(), float64(i%7))
	}
	require.NoError(t, st.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: ids[0], Rows: rows}}}))
	require.NoError(t, st.Seal(t.Context(), engine.Sealing{}))
	require.NoError(t, st.Close())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec("UPDATE chunks SET part0 = CAST(substr(part0, 1, 30) || x'5a' || substr(part0, 32) AS BLOB)")
	require.NoError(t, err)
	require.NoError(t, db.Close())

	st = open()
	defer st.Close()
	r := repair.New(st, st.Gaps, nil, nil, st.VerifySlowly, slog.New(slog.DiscardHandler))
	begun := time.Now()
	require.NoError(t, r.Verify(t.Context(), 99))
	assert.Greater(t, time.Since(begun), time.Duration(0))
	aside, err := st.SetAsideRows()
	require.NoError(t, err)
	require.Len(t, aside, 1)
	pass, err := r.LastPass()
	require.NoError(t, err)
	assert.Equal(t, 1, pass.Faults)
	assert.WithinDuration(t, time.Now(), pass.Ended, time.Minute)

	for range 2 { // the second time it is known
		require.NoError(t, r.Look(t.Context()))
	}
	found, err := st.Gaps.Between(time.Unix(0, 0), time.Now(), nil)
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Equal(t, gap.NotRepaired, found[0].Cause)
	assert.Equal(t, "readings", found[0].Of)
	assert.WithinDuration(t, begin, found[0].From, 0)

	ended, end := context.WithCancel(t.Context())
	end()
	assert.ErrorIs(t, r.Verify(ended, 99), context.Canceled)
	again, err := r.LastPass()
	require.NoError(t, err)
	assert.Equal(t, pass, again, "what was not ended does not count")
}

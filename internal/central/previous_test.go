package central

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
	"nexocumula/internal/store/records"
)

// What a gateway of the version before sent, byte for byte: four readings that were pushed, and a note. Such a gateway is
// taken like one of today; when the format gets another version, its last build makes the files anew.
func TestWhatTheVersionBeforeSendsIsTaken(t *testing.T) {
	st, err := store.Open(filepath.Join(t.TempDir(), "s.db"), slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(t, err)
	defer st.Close()
	r, err := NewReceiver(config.Central{Accept: []config.Accept{{Gateway: "stony-beck", Sites: []string{"stony-beck"}, Token: "char"}}},
		st, st.Records, nobody{})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { defer close(ended); _ = r.Run(ctx) }()
	defer func() { cancel(); <-ended }()
	const sent = 4
	for i := range sent {
		body, err := os.ReadFile(filepath.Join("testdata", "version-4", fmt.Sprintf("%d.cbor", i+1)))
		require.NoError(t, err)
		reply, err := r.Receive(t.Context(), "char", "here", body)
		require.NoError(t, err, "envelope %d", i+1)
		assert.Empty(t, reply.Refused)
		assert.Empty(t, reply.RefusedRecords)
	}
	known, ok := st.Find("stony-beck/raceway-1/oxygen")
	require.True(t, ok)
	rows, err := st.Read(t.Context(), known.ID, series.Minute, 0, 1<<62)
	require.NoError(t, err)
	require.Equal(t, 3, rows.Len())
	assert.Equal(t, []float64{2, 1, 1}, rows.Cols[rollup.ColCount])
	assert.Equal(t, []float64{8.625, 9.25, 9}, rows.Cols[rollup.ColMean])
	assert.Equal(t, []float64{8.5, 9.25, 9}, rows.Cols[rollup.ColMin])
	notes, err := st.Notes.Between(time.Unix(0, 0), time.Now().AddDate(10, 0, 0), 10, func(records.Note) bool { return true })
	require.NoError(t, err)
	require.Len(t, notes, 1)
	assert.Equal(t, "the probe was cleaned", notes[0].Text)
}

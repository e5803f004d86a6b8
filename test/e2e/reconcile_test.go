package e2e

import (
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
)

// What a central lost or has another of is found window by window, from either end, and mended while both run; what only
// the central has is named and stays.
func TestReconcilingFindsAndMendsWhatDiffers(t *testing.T) {
	t.Parallel()
	p := newPair(t)
	day := time.Now().UTC().AddDate(0, 0, -2).Truncate(24 * time.Hour)
	require.NoError(t, pushDay(t, p.gateway.Base(), day, patience))
	_, err := p.gateway.AddNote(t.Context(), client.NewNote{About: "stony-beck", Text: "ice on the inlet"})
	require.NoError(t, err)
	end := day.Add(24 * time.Hour)
	eventually(t, "the summaries are there", func() bool { return countOf(t, p.head, day, end) == rowsOfADay })
	warden := newPerson(t, p.gateway.Base())
	office := newPerson(t, p.head.Base())
	const all = rowsOfADay + 24*60
	from := []string{"--from", day.Add(-24 * time.Hour).Format(time.RFC3339), "--to", end.Format(time.RFC3339)}
	eventually(t, "all is the same", func() bool {
		found, err := p.gateway.Reconcile(t.Context(), "head-office", client.NewReconcile{From: &day, To: &end})
		return err == nil && found.Equal == all && found.Different+found.Waiting == 0
	})

	require.Zero(t, p.centralRuns.interrupt(t))
	st, err := store.Open(filepath.Join(p.dir, "head-office", "nexocumula.db"), slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(t, err)
	known, ok := st.Find("stony-beck/raceway-1/oxygen")
	require.True(t, ok)
	lost := day.Add(5 * time.Hour).UnixNano()
	gone, err := st.Erase(t.Context(), known.ID, lost, lost+int64(time.Minute))
	require.NoError(t, err)
	require.Equal(t, 7, gone.Summaries)
	rows, err := st.Read(t.Context(), known.ID, series.TenSecond, lost+int64(time.Hour), lost+int64(time.Hour)+int64(10*time.Second))
	require.NoError(t, err)
	rows = rows.Clone()
	rows.Cols[rollup.ColMean][0] += 0.5
	rows.Cols[rollup.ColMax][0] += 1
	extra := rows.Clone()
	extra.Times[0] = day.Add(-time.Hour).UnixNano()
	for _, more := range []engine.Entry{{Series: known.ID, Tier: series.TenSecond, Rows: rows}, {Series: known.ID, Tier: series.TenSecond, Rows: extra}} {
		require.NoError(t, st.Append(t.Context(), engine.Batch{Entries: []engine.Entry{more}}))
	}
	require.NoError(t, st.Close())
	p.startCentral()

	// Asked for at the central, carried out by the gateway.
	out := office.refused("", append([]string{"reconcile", "stony-beck"}, from...)...)
	for _, line := range []string{"missing", "changed", "extra", day.Add(5 * time.Hour).Format(time.RFC3339), "9 different"} {
		assert.Contains(t, out, line)
	}
	made, err := p.gateway.Reconcile(t.Context(), "head-office", client.NewReconcile{From: &day, To: &end})
	require.NoError(t, err)
	assert.Equal(t, 8, made.Different)
	assert.EqualValues(t, all-8, made.Equal)
	assert.EqualValues(t, 0, made.Waiting)

	out = warden.refused("", append([]string{"reconcile", "head-office", "--mend"}, from...)...)
	assert.Contains(t, out, "1 different; 8 were sent again")
	made, err = p.gateway.Reconcile(t.Context(), "head-office", client.NewReconcile{From: &day, To: &end})
	require.NoError(t, err)
	assert.Zero(t, made.Different, made.Text)
	assert.EqualValues(t, all, made.Equal)
	assert.Less(t, made.Bytes, uint64(5000))
	assert.Equal(t, rowsOfADay, countOf(t, p.head, day, end))
	assert.Contains(t, warden.refused("", "reconcile", "nowhere"), "no gateway that sends to this service has site nowhere")
	assert.Contains(t, office.refused("", "reconcile"), "name the site")
}

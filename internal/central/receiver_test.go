package central

import (
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
	"nexocumula/internal/wire"
)

var accept = config.Central{Accept: []config.Accept{{Gateway: "long-mere", Token: "trout"}, {Gateway: "alder-weir", Token: "char"}}}

func receiver(t *testing.T, path string) (*Receiver, *store.Store) {
	t.Helper()
	st, err := store.Open(path, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	r, err := NewReceiver(accept, st)
	require.NoError(t, err)
	return r, st
}

// batchOf is a batch of one summary, of the given minute, that counts n readings.
func batchOf(t *testing.T, path series.Path, minute int64, n float64) []byte {
	t.Helper()
	rows, start := rollup.NewBlock(series.Gauge, 1), minute*int64(time.Minute)
	rollup.Summary{Count: n, FirstAt: start, LastAt: start}.AddTo(&rows, start, series.Gauge)
	data, err := wire.EncodeBatch([]wire.Run{{Def: series.Definition{Path: path, Kind: series.Gauge, FreshFor: time.Minute}, Tier: rollup.Minute, Rows: rows}})
	require.NoError(t, err)
	return data
}

func send(t *testing.T, r *Receiver, epoch string, first uint64, batches ...[]byte) (wire.Reply, error) {
	t.Helper()
	body, err := wire.Envelope{Gateway: "long-mere", Epoch: epoch, FirstSeq: first, Batches: batches}.Encode()
	require.NoError(t, err)
	return r.Receive("trout", body)
}

// counts are the counts of the central's summaries by minute.
func counts(t *testing.T, st *store.Store) map[int64]float64 {
	t.Helper()
	rows, err := st.Read(1, rollup.Minute, 0, 1<<62)
	require.NoError(t, err)
	out := map[int64]float64{}
	for i, start := range rows.Times {
		out[start/int64(time.Minute)] = rows.Cols[0][i]
	}
	return out
}

const path = "long-mere/buoy-1/oxygen"

func TestABatchCountsOnceHoweverOftenItComes(t *testing.T) {
	file := filepath.Join(t.TempDir(), "c.db")
	r, st := receiver(t, file)
	b1, b2, b3 := batchOf(t, path, 1, 10), batchOf(t, path, 2, 20), batchOf(t, path, 3, 30)
	reply, err := send(t, r, "one", 1, b1, b2)
	require.NoError(t, err)
	assert.EqualValues(t, 2, reply.StoredSeq)
	reply, err = send(t, r, "one", 1, b1, b2) // the answer was lost
	require.NoError(t, err)
	assert.EqualValues(t, 2, reply.StoredSeq)
	reply, err = send(t, r, "one", 2, b2, b3) // half of it is new
	require.NoError(t, err)
	assert.EqualValues(t, 3, reply.StoredSeq)
	assert.Equal(t, map[int64]float64{1: 10, 2: 20, 3: 30}, counts(t, st))

	require.NoError(t, st.Close())
	r, _ = receiver(t, file)
	reply, err = send(t, r, "one", 3, b3) // also after a restart
	require.NoError(t, err)
	assert.EqualValues(t, 3, reply.StoredSeq)
	for _, l := range r.Links() {
		if l.Gateway == "long-mere" {
			assert.EqualValues(t, 3, l.Rows)
			assert.EqualValues(t, 1, l.Repeated)
			assert.True(t, l.Up(time.Now()))
		} else {
			assert.False(t, l.Up(time.Now()))
		}
	}
}

func TestARevisionTakesTheSummarysPlace(t *testing.T) {
	r, st := receiver(t, filepath.Join(t.TempDir(), "c.db"))
	_, err := send(t, r, "one", 1, batchOf(t, path, 1, 10), batchOf(t, path, 1, 11))
	require.NoError(t, err)
	assert.Equal(t, map[int64]float64{1: 11}, counts(t, st))
	require.NoError(t, st.Seal(nil))
	_, err = send(t, r, "one", 3, batchOf(t, path, 1, 12))
	require.NoError(t, err)
	assert.Equal(t, map[int64]float64{1: 12}, counts(t, st))
}

func TestAGapIsRefusedAndANewEpochBegins(t *testing.T) {
	r, _ := receiver(t, filepath.Join(t.TempDir(), "c.db"))
	b := batchOf(t, path, 1, 10)
	_, err := send(t, r, "one", 1, b)
	require.NoError(t, err)
	_, err = send(t, r, "one", 3, b)
	refused := RefusalOf(err)
	assert.Equal(t, wire.CodeGap, refused.Code)
	assert.EqualValues(t, 1, refused.StoredSeq)
	_, err = send(t, r, "two", 2, b)
	assert.Equal(t, wire.CodeGap, RefusalOf(err).Code, "an epoch begins with batch 1")
	reply, err := send(t, r, "two", 1, b)
	require.NoError(t, err)
	assert.EqualValues(t, 1, reply.StoredSeq)
}

func TestNothingOfABadEnvelopeIsStored(t *testing.T) {
	r, st := receiver(t, filepath.Join(t.TempDir(), "c.db"))
	for _, test := range []struct {
		batch []byte
		wrong string
	}{
		{[]byte("junk"), "batch is not zstd"},
		{batchOf(t, "alder-weir/pump-1/power", 1, 1), "series alder-weir/pump-1/power is not of site long-mere"},
		{batchOf(t, "long-mere-2/buoy-1/oxygen", 1, 1), "is not of site long-mere"},
	} {
		_, err := send(t, r, "one", 1, batchOf(t, path, 1, 10), test.batch)
		assert.Equal(t, wire.CodeMalformed, RefusalOf(err).Code)
		assert.ErrorContains(t, err, test.wrong)
		kept, err := st.Rejects("replication", 1)
		require.NoError(t, err)
		assert.Contains(t, kept[0].Reason, test.wrong)
	}
	assert.Zero(t, st.Count())
	body, err := wire.Envelope{Gateway: "long-mere", Epoch: "one"}.Encode()
	require.NoError(t, err)
	_, err = r.Receive("char", body)
	assert.Equal(t, wire.CodeToken, RefusalOf(err).Code, "the token of another gateway")
}

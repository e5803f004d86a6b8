package overhttp

import (
	"os"
	"testing"

	"nexocumula/internal/core/chunk"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/wire"
)

// TestMain uses what keeps goroutines or channels for good once before any bubble of
// virtual time begins, as these must not belong to one.
func TestMain(m *testing.M) {
	rows := rollup.NewBlock(series.Gauge, 1)
	rollup.Summary{Count: 1}.AddTo(&rows, 0, series.Gauge)
	data, err := wire.EncodeBatch([]wire.Run{{Def: oxygen, Tier: series.Minute, Rows: rows}}, series.Tiers{}.All(), nil)
	if err != nil {
		panic(err)
	}
	if _, err := wire.DecodeBatch(data); err != nil {
		panic(err)
	}
	odd := column.New(1, 0)
	for i := range int64(100) {
		odd.Add(i, 1/float64(i+7))
	}
	if data, err = chunk.Encode(odd); err == nil {
		_, err = chunk.Decode(data)
	}
	if err != nil {
		panic(err)
	}
	os.Exit(m.Run())
}

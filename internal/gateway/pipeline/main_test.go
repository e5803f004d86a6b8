package pipeline

import (
	"os"
	"testing"

	"nexocumula/internal/core/chunk"
	"nexocumula/internal/core/column"
)

// TestMain uses what keeps goroutines or channels for good once before any bubble of
// virtual time begins, as these must not belong to one.
func TestMain(m *testing.M) {
	odd := column.New(1, 0)
	for i := range int64(100) {
		odd.Add(i, 1/float64(i+7))
	}
	data, err := chunk.Encode(odd)
	if err == nil {
		_, err = chunk.Decode(data)
	}
	if err != nil {
		panic(err)
	}
	os.Exit(m.Run())
}

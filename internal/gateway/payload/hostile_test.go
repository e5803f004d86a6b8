package payload_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nexocumula/internal/gateway/payload"
	"nexocumula/internal/gateway/source/sourcetest"
	"nexocumula/internal/rounds"
)

func TestNoHostilePayloadHarmsADecoder(t *testing.T) {
	rounds.Alone(t)
	var good [][]byte
	var all []*payload.Messages
	for _, form := range payload.Forms() {
		for _, e := range payload.Good(t, form.Name) {
			good, all = append(good, e.Payload), append(all, e.Messages)
		}
	}
	at := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC).UnixNano()
	sourcetest.Hostile(t, good, func(which int, input []byte) {
		got := all[which].Decode(payload.Arrived{Topic: "t", Payload: input, At: at})
		require.LessOrEqual(t, len(got.Rejects)+len(got.Readings), 10+8*len(input))
		if len(input) < 4096 { // as a watch keeps
			require.NotEmpty(t, payload.GuessOf("t", input).Form)
		}
	})
}

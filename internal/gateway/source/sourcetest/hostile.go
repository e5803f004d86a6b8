package sourcetest

import (
	"math/rand/v2"
	"os"
	"runtime"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// Hostile calls take with inputs made of good ones by flipping, cutting, doubling and mixing
// their bytes: so many as NEXOCUMULA_HOSTILE says, else few enough for every day. It fails
// when the memory held grows with them.
func Hostile(t *testing.T, good [][]byte, take func(which int, input []byte)) {
	HostileOf(t, 100_000, good, take)
}

// HostileOf is Hostile with another number of inputs for every day.
func HostileOf(t *testing.T, inputs int, good [][]byte, take func(which int, input []byte)) {
	if text := os.Getenv("NEXOCUMULA_HOSTILE"); text != "" {
		var err error
		inputs, err = strconv.Atoi(text)
		require.NoError(t, err)
	}
	random := rand.New(rand.NewPCG(1, 99))
	held := uint64(0)
	for i := range inputs {
		which := random.IntN(len(good))
		take(which, mutated(random, good[which], good[random.IntN(len(good))]))
		if i == inputs/10 {
			held = heldNow()
		}
	}
	const mayGrow = 64 << 20
	require.Less(t, heldNow(), held+mayGrow, "memory grows with hostile inputs")
}

func heldNow() uint64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}

func mutated(random *rand.Rand, good, other []byte) []byte {
	out := append([]byte(nil), good...)
	for range 1 + random.IntN(4) {
		if len(out) == 0 {
			return append(out, other...)
		}
		at := random.IntN(len(out))
		switch random.IntN(6) {
		case 0:
			out[at] ^= 1 << random.IntN(8)
		case 1:
			out[at] = byte(random.IntN(256))
		case 2:
			out = out[:at]
		case 3:
			out = append(out[:at], out[min(len(out), at+1+random.IntN(8)):]...)
		case 4:
			out = append(out[:at:at], append([]byte(nil), out[max(0, at-random.IntN(16)):]...)...)
		case 5:
			out = append(out[:at:at], other[min(len(other), random.IntN(len(other)+1)):]...)
		}
	}
	return out
}

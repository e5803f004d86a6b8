package sketch

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEstimatesKeepToTheirBound(t *testing.T) {
	random := rand.New(rand.NewPCG(51, 52))
	for _, value := range []func() float64{
		func() float64 { return 12 + random.NormFloat64() },
		func() float64 { return random.NormFloat64() },
		func() float64 { return math.Exp(3 * random.NormFloat64()) },
		func() float64 { return float64(random.IntN(3)) },
	} {
		whole := New()
		var all []float64
		for range 20 { // merged from parts that went through bytes
			part := New()
			for range 1 + random.IntN(500) {
				v := value()
				all = append(all, v)
				require.NoError(t, part.Add(v))
			}
			back, err := Parse(part.Bytes())
			require.NoError(t, err)
			require.NoError(t, whole.Merge(back))
		}
		slices.Sort(all)
		assert.EqualValues(t, len(all), whole.Count())
		for _, p := range []float64{0, 1, 25, 50, 90, 99, 99.9, 100} {
			got, err := whole.Percentile(p)
			require.NoError(t, err)
			at := p / 100 * float64(len(all)-1)
			low, high := all[int(at)], all[int(math.Ceil(at))]
			slack := Accuracy * max(math.Abs(low), math.Abs(high)) * 1.0001
			assert.True(t, got >= low-slack && got <= high+slack, "p%v of %d is %v, not from %v to %v", p, len(all),
				got, low, high)
		}
	}
}

func TestBytesThatAreNoSketchAreRefused(t *testing.T) {
	for _, data := range [][]byte{nil, {1, 2, 3}, make([]byte, MaxBytes+1)} {
		_, err := Parse(data)
		assert.Error(t, err)
	}
}

package chunk

import (
	"encoding/binary"
	"hash/crc32"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
)

func sameBits(t *testing.T, a, b column.Block) {
	t.Helper()
	require.Equal(t, a.Times, b.Times)
	require.Len(t, b.Cols, len(a.Cols))
	for c := range a.Cols {
		for i := range a.Cols[c] {
			require.Equal(t, math.Float64bits(a.Cols[c][i]), math.Float64bits(b.Cols[c][i]), "column %d, row %d", c, i)
		}
	}
}

func TestEveryValueComesBackBitForBit(t *testing.T) {
	strange := []float64{0, math.Copysign(0, -1), math.NaN(), math.Inf(1), math.Inf(-1), math.SmallestNonzeroFloat64, math.MaxFloat64, 0.1, 11.42}
	random := rand.New(rand.NewPCG(5, 6))
	for range 500 {
		width, rows := random.IntN(4), 1+random.IntN(300)
		b := column.New(width, rows)
		at := random.Int64N(1<<62) - 1<<61
		for range rows {
			values := make([]float64, width)
			for c := range values {
				values[c] = strange[random.IntN(len(strange))]
			}
			b.Add(at, values...)
			at += 1 + random.Int64N(1<<uint(random.IntN(50)))
		}
		for _, compress := range []bool{false, true} {
			data, err := Encode(b, compress)
			require.NoError(t, err)
			back, err := Decode(data)
			require.NoError(t, err)
			sameBits(t, b, back)
		}
	}
}

func TestAConstantColumnCostsAlmostNothing(t *testing.T) {
	b := column.New(1, 0)
	for i := range 1000 {
		b.Add(int64(i)*1e10, 7)
	}
	data, err := Encode(b, true)
	require.NoError(t, err)
	assert.Less(t, len(data), 100)
}

func TestWhatCannotBeEncodedIsRefused(t *testing.T) {
	_, err := Encode(column.New(1, 0), false)
	assert.ErrorContains(t, err, "0 rows")
	_, err = Encode(column.Block{Times: []int64{2, 2}, Cols: [][]float64{{1, 2}}}, false)
	assert.ErrorContains(t, err, "do not strictly ascend")
	_, err = Encode(column.Block{Times: []int64{1, 2}, Cols: [][]float64{{1}}}, false)
	assert.ErrorContains(t, err, "column 0 has 1 rows")
}

func TestEveryFlippedBitIsNoticed(t *testing.T) {
	b := column.New(1, 0)
	for i := range 50 {
		b.Add(int64(i)*10, float64(i)/10)
	}
	for _, compress := range []bool{false, true} {
		data, err := Encode(b, compress)
		require.NoError(t, err)
		for i := range data {
			broken := append([]byte(nil), data...)
			broken[i] ^= 1 << (i % 8)
			_, err := Decode(broken)
			require.ErrorIs(t, err, ErrDamaged, "byte %d", i)
		}
		for n := range data {
			_, err := Decode(data[:n])
			require.ErrorIs(t, err, ErrDamaged, "cut to %d bytes", n)
		}
	}
}

// sealed gives a body a header that is right, so that what is behind it is tried.
func sealed(body []byte) []byte {
	out := append([]byte{version1, bodyPlain, 0, 0, 0, 0}, body...)
	binary.LittleEndian.PutUint32(out[2:], crc32.Checksum(body, castagnoli))
	return out
}

func TestBodiesThatLieAreRefused(t *testing.T) {
	for name, body := range map[string][]byte{
		"no rows":                {0, 0},
		"more rows than bytes":   {0xff, 0xff, 0xff, 0x7f, 1},
		"a column of no form":    {1, 1, 2, 9, 0, 0, 0, 0, 0, 0, 0, 0},
		"times that stand still": {2, 0, 2, 0},
		"bytes behind the end":   {1, 0, 2, 7},
	} {
		_, err := Decode(sealed(body))
		assert.ErrorIs(t, err, ErrDamaged, name)
	}
}

func FuzzDecode(f *testing.F) {
	b := column.New(2, 0)
	b.Add(10, 1, 2)
	b.Add(25, 1, 3)
	data, err := Encode(b, false)
	require.NoError(f, err)
	f.Add(data[headerSize:])
	f.Fuzz(func(t *testing.T, body []byte) {
		got, err := Decode(sealed(body))
		if err != nil {
			require.ErrorIs(t, err, ErrDamaged)
			return
		}
		again, err := Encode(got, false)
		require.NoError(t, err)
		back, err := Decode(again)
		require.NoError(t, err)
		sameBits(t, got, back)
	})
}

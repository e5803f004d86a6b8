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

// forms are both ways to write a block.
var forms = []func(column.Block) ([]byte, error){Encode, EncodePlain}

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
	strange := []float64{
		0, math.Copysign(0, -1), math.NaN(), math.Inf(1), math.Inf(-1), math.SmallestNonzeroFloat64, math.MaxFloat64,
		0.1, 11.42,
	}
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
		for _, encode := range forms {
			data, err := encode(b)
			require.NoError(t, err)
			back, err := Decode(data)
			require.NoError(t, err)
			sameBits(t, b, back)
		}
	}
}

// A column of each kind of sensor, and of what is no sensor at all.
func TestColumnsOfEveryKindComeBack(t *testing.T) {
	random := rand.New(rand.NewPCG(13, 14))
	kinds := map[string]func(i int) float64{
		"hundredths":          func(i int) float64 { return math.Round(1100+100*math.Sin(float64(i)/50)) / 100 },
		"mixed decimals":      func(i int) float64 { return []float64{1, 2.5, 3.25, 4.125}[i%4] },
		"large whole numbers": func(i int) float64 { return float64(5_000_000_000 + 7*i) },
		"beyond 2^53":         func(i int) float64 { return float64(int64(1)<<60) + float64(i)*1024 },
		"all different bits":  func(i int) float64 { return random.NormFloat64() },
		"any bits":            func(i int) float64 { return math.Float64frombits(random.Uint64()) },
		"on and off":          func(i int) float64 { return float64(i / 37 % 2) },
		"a glitch here and there": func(i int) float64 {
			return []float64{10.25, math.NaN(), math.Inf(-1), math.Copysign(0, -1), 1e300}[max(0, i%97-92)]
		},
		"float32": func(i int) float64 { return float64(float32(i%977) / 1000) },
		"float32 with glitches": func(i int) float64 {
			return []float64{float64(float32(i) / 10), math.NaN(), 1e39}[max(0, i%98-95)]
		},
		"tiny":         func(i int) float64 { return float64(i) * 5e-324 },
		"up and down":  func(i int) float64 { return float64(i%2)*2e9 - 1e9 },
		"one outlier":  func(i int) float64 { return float64(i/500) * 1e9 },
		"wide decimal": func(i int) float64 { return math.Round(random.Float64()*1e15) / 1000 },
	}
	for name, kind := range kinds {
		for _, rows := range []int{1, 2, 127, 128, 129, 600} {
			b := column.New(1, rows)
			for i := range rows {
				b.Add(int64(i)*10_000_000_000+random.Int64N(7)*1_000_000, kind(i))
			}
			for _, write := range []func(column.Block) ([]byte, error){Encode, EncodeQuick, EncodePlain} {
				data, err := write(b)
				require.NoError(t, err, name)
				back, err := Decode(data)
				require.NoError(t, err, name)
				sameBits(t, b, back)
			}
		}
	}
}

func TestTimesOfEveryKindComeBack(t *testing.T) {
	random := rand.New(rand.NewPCG(15, 16))
	kinds := map[string]func(i int) int64{
		"to the nanosecond":  func(int) int64 { return 1 },
		"every minute":       func(int) int64 { return 60e9 },
		"polled with jitter": func(int) int64 { return 10e9 + random.Int64N(6_000_000) - 3_000_000 },
		"polls that miss":    func(int) int64 { return 10e9 * (1 + random.Int64N(2)*random.Int64N(4)) },
		"on change":          func(int) int64 { return 1 + random.Int64N(3600e9) },
		"years apart":        func(int) int64 { return 1 + random.Int64N(1<<53) },
		"growing":            func(i int) int64 { return int64(i*i + 1) },
	}
	for name, kind := range kinds {
		for _, rows := range []int{1, 2, 4, 5, 129, 1000} {
			b := column.New(0, rows)
			at := int64(1_772_352_000_000_000_000)
			for i := range rows {
				b.Add(at)
				at += kind(i)
			}
			data, err := Encode(b)
			require.NoError(t, err, name)
			back, err := Decode(data)
			require.NoError(t, err, name)
			require.Equal(t, b.Times, back.Times, name)
		}
	}
	far := column.Block{Times: []int64{math.MinInt64, -1, 0, math.MaxInt64 - 1, math.MaxInt64}}
	data, err := Encode(far)
	require.NoError(t, err)
	back, err := Decode(data)
	require.NoError(t, err)
	assert.Equal(t, far.Times, back.Times)
}

func TestPollsAndDecimalsAreSmall(t *testing.T) {
	random := rand.New(rand.NewPCG(17, 18))
	b := column.New(1, 0)
	walk := 1142.0
	for i := range 4096 {
		walk += math.Round(random.NormFloat64())
		b.Add(int64(i)*10_000_000_000+int64(math.Round(random.NormFloat64()*3))*1_000_000, walk/100)
	}
	data, err := Encode(b)
	require.NoError(t, err)
	// A jitter of 3 ms has 3.6 bits, steps of one hundredth 2.1: less than a byte.
	assert.Less(t, float64(len(data))/4096, 1.0)
}

func TestValuesThatWereFloat32AreSmallToo(t *testing.T) {
	random := rand.New(rand.NewPCG(61, 62))
	b := column.New(1, 0)
	for i := range 4096 {
		b.Add(int64(i)*10_000_000_000, float64(float32(float64(4431+random.IntN(16))/1000)))
	}
	data, err := Encode(b)
	require.NoError(t, err)
	assert.Less(t, len(data), 4096*4/8+200, "four bits each")
	back, err := Decode(data)
	require.NoError(t, err)
	sameBits(t, b, back)
}

func TestPackedIntegersComeBack(t *testing.T) {
	random := rand.New(rand.NewPCG(19, 20))
	for range 3000 {
		v := make([]int64, 1+random.IntN(300))
		wide := uint(random.IntN(65))
		for i := range v {
			v[i] = int64(random.Uint64())
			if wide > 0 {
				v[i] >>= wide - 1
			}
			if random.IntN(40) == 0 {
				v[i] = int64(random.Uint64())
			}
		}
		r := reader{rest: appendPacked(nil, v)}
		got := make([]int64, len(v))
		r.packed(got)
		require.NoError(t, r.err)
		require.Empty(t, r.rest)
		require.Equal(t, v, got)
	}
}

func TestAConstantColumnCostsAlmostNothing(t *testing.T) {
	b := column.New(1, 0)
	for i := range 1000 {
		b.Add(int64(i)*1e10, 7)
	}
	data, err := Encode(b)
	require.NoError(t, err)
	assert.Less(t, len(data), 100)
}

func TestWhatCannotBeEncodedIsRefused(t *testing.T) {
	_, err := Encode(column.New(1, 0))
	assert.ErrorContains(t, err, "0 rows")
	_, err = Encode(column.Block{Times: []int64{2, 2}, Cols: [][]float64{{1, 2}}})
	assert.ErrorContains(t, err, "do not strictly ascend")
	_, err = Encode(column.Block{Times: []int64{1, 2}, Cols: [][]float64{{1}}})
	assert.ErrorContains(t, err, "column 0 has 1 rows")
}

func TestEveryFlippedBitIsNoticed(t *testing.T) {
	b := column.New(1, 0)
	for i := range 50 {
		b.Add(int64(i)*10, float64(i)/10)
	}
	for _, encode := range forms {
		data, err := encode(b)
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
func sealed(form byte, body []byte) []byte {
	out := append([]byte{version, form, 0, 0, 0, 0}, body...)
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
		_, err := Decode(sealed(bodyPlain, body))
		assert.ErrorIs(t, err, ErrDamaged, name)
	}
}

// FuzzRoundTrip takes eight bytes a value and some for its time.
func FuzzRoundTrip(f *testing.F) {
	f.Add([]byte("some bytes that are made into times and values, whatever they are"), byte(0))
	f.Add(make([]byte, 400), byte(3))
	f.Fuzz(func(t *testing.T, data []byte, form byte) {
		b := column.New(1, 0)
		at := int64(0)
		for ; len(data) >= 10; data = data[10:] {
			bits := binary.LittleEndian.Uint64(data)
			v := math.Float64frombits(bits)
			switch form % 4 {
			case 1:
				v = float64(int64(bits>>40)) / 100
			case 2:
				v = float64(float32(int64(bits>>44)) / 10)
			case 3:
				v = float64(bits >> 62)
			}
			at += 1 + int64(data[8])*int64(data[9])*1_000_000
			b.Add(at, v)
		}
		if b.Len() == 0 {
			return
		}
		for _, write := range []func(column.Block) ([]byte, error){Encode, EncodeQuick, EncodePlain} {
			out, err := write(b)
			require.NoError(t, err)
			back, err := Decode(out)
			require.NoError(t, err)
			sameBits(t, b, back)
		}
	})
}

func FuzzDecode(f *testing.F) {
	b := column.New(2, 0)
	for i := range 200 {
		b.Add(int64(i*i)+10, 1, float64(i)/4)
	}
	for form, encode := range []func(column.Block) ([]byte, error){EncodePlain, Encode} {
		data, err := encode(b)
		require.NoError(f, err)
		f.Add(byte(form), data[headerSize:])
	}
	f.Fuzz(func(t *testing.T, form byte, body []byte) {
		got, err := Decode(sealed(form, body))
		if err != nil {
			require.ErrorIs(t, err, ErrDamaged)
			return
		}
		for _, encode := range forms {
			again, err := encode(got)
			require.NoError(t, err)
			back, err := Decode(again)
			require.NoError(t, err)
			sameBits(t, got, back)
		}
	})
}

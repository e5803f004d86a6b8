package modbus

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/calibrate"
)

func TestRegistersBecomeNumbers(t *testing.T) {
	f32, f64 := math.Float32bits(-12.75), math.Float64bits(math.Pi)
	lowWord, lowByte, both := order{lowWordFirst: true}, order{lowByteFirst: true}, order{true, true}
	for _, test := range []struct {
		words []uint16
		as    string
		order order
		value float64
	}{
		{[]uint16{0xffff}, "uint16", order{}, 65535},
		{[]uint16{0x0102}, "uint16", lowByte, 0x0201},
		{[]uint16{0xffff}, "int16", order{}, -1},
		{[]uint16{0x0001, 0x0002}, "uint32", order{}, 65538},
		{[]uint16{0x0002, 0x0001}, "uint32", lowWord, 65538},
		{[]uint16{0x0102, 0x0304}, "uint32", order{}, 0x01020304},
		{[]uint16{0x0102, 0x0304}, "uint32", lowByte, 0x02010403},
		{[]uint16{0x0102, 0x0304}, "uint32", lowWord, 0x03040102},
		{[]uint16{0x0102, 0x0304}, "uint32", both, 0x04030201},
		{[]uint16{0xffff, 0xfffe}, "int32", order{}, -2},
		{[]uint16{0xffff, 0xffff, 0xfffd}, "int48", order{}, -3},
		{[]uint16{1, 0, 0}, "uint48", order{}, 1 << 32},
		{[]uint16{uint16(f32 >> 16), uint16(f32)}, "float32", order{}, -12.75},
		{[]uint16{uint16(f32), uint16(f32 >> 16)}, "float32", lowWord, -12.75},
		{[]uint16{0, 1, 0, 0}, "uint64", order{}, 1 << 32},
		{[]uint16{0xffff, 0xffff, 0xffff, 0xfffd}, "int64", order{}, -3},
		{[]uint16{uint16(f64), uint16(f64 >> 16), uint16(f64 >> 32), uint16(f64 >> 48)}, "float64", lowWord, math.Pi},
		{[]uint16{8}, "bool", order{}, 1},
		{[]uint16{0x1234}, "bcd16", order{}, 1234},
		{[]uint16{0x0012, 0x3456}, "bcd32", order{}, 123456},
		{[]uint16{0x9999, 0x9999, 0x9999, 0x9999}, "bcd64", order{}, 9999999999999999},
		{[]uint16{0x8005}, "magnitude16", order{}, -5},
		{[]uint16{0x0001, 0x0000}, "magnitude32", order{}, 65536},
	} {
		v, ok, err := register{as: named(test.as), order: test.order, calibrate: calibrate.Identity}.value(test.words,
			0)
		require.NoError(t, err, test.as)
		assert.True(t, ok)
		assert.Equal(t, test.value, v, test.as)
	}
	_, _, err := register{as: named("bcd16")}.value([]uint16{0x12a4}, 0)
	assert.ErrorContains(t, err, "0x12A4 is no binary coded decimal: it holds the digit A")
}

func TestBitsAndValuesThatMeanNone(t *testing.T) {
	for _, test := range []struct {
		bits  []int
		value float64
	}{{[]int{3, 3}, 1}, {[]int{2, 2}, 0}, {[]int{4, 7}, 0xb}, {[]int{0, 15}, 0xabb8}} {
		v, ok, err := register{
			as:        named("uint16"),
			bits:      test.bits,
			calibrate: calibrate.Identity,
		}.value([]uint16{0xabb8},
			0)
		require.NoError(t, err)
		assert.True(t, ok)
		assert.Equal(t, test.value, v, test.bits)
	}
	none := register{as: named("int16"), none: []float64{32767, -1}, calibrate: calibrate.Identity}
	for word, wanted := range map[uint16]bool{0x7fff: false, 0xffff: false, 0x7ffe: true} {
		_, ok, err := none.value([]uint16{word}, 0)
		require.NoError(t, err)
		assert.Equal(t, wanted, ok, word)
	}
}

func named(name string) valueType {
	as, err := typeNamed(name)
	if err != nil {
		panic(err)
	}
	return as
}

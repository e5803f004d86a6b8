package modbus

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config/shape"
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
		v, ok, err := register{as: named(test.as), order: test.order, calibrate: calibrate.Identity}.value(test.words)
		require.NoError(t, err, test.as)
		assert.True(t, ok)
		assert.Equal(t, test.value, v, test.as)
	}
	_, _, err := register{as: named("bcd16")}.value([]uint16{0x12a4})
	assert.ErrorContains(t, err, "0x12A4 is no binary coded decimal: it holds the digit A")
	_, _, err = register{as: named("float32")}.value([]uint16{1})
	assert.ErrorContains(t, err, "takes 2 register(s), not 1")
}

func TestBitsAndValuesThatMeanNone(t *testing.T) {
	for _, test := range []struct {
		bits  []int
		value float64
	}{{[]int{3, 3}, 1}, {[]int{2, 2}, 0}, {[]int{4, 7}, 0xb}, {[]int{0, 15}, 0xabb8}} {
		v, ok, err := register{as: named("uint16"), bits: test.bits, calibrate: calibrate.Identity}.value([]uint16{0xabb8})
		require.NoError(t, err)
		assert.True(t, ok)
		assert.Equal(t, test.value, v, test.bits)
	}
	none := register{as: named("int16"), none: []float64{32767, -1}, calibrate: calibrate.Identity}
	for word, wanted := range map[uint16]bool{0x7fff: false, 0xffff: false, 0x7ffe: true} {
		_, ok, err := none.value([]uint16{word})
		require.NoError(t, err)
		assert.Equal(t, wanted, ok, word)
	}
}

func TestMistakesInDevicesAreNamed(t *testing.T) {
	for keys, wrong := range map[string]string{
		"{ table: relay, address: 0, series: a/b }":                                 `table "relay" is not known; use coil, discrete_input, holding or input`,
		"{ table: holding, address: 0, series: a/b, type: uint24 }":                 `register type "uint24" is not known; use bool, uint16`,
		"{ table: holding, series: a/b }":                                           "counted from 0 as on the wire",
		"{ table: holding, address: 65535, series: a/b, type: uint32 }":             "address 65535 is not possible for a uint32; use 0 to 65534",
		"{ table: holding, address: 0, series: a/b, unit: 900 }":                    "unit id 900 is not possible; use 0 to 255",
		"{ table: coil, address: 0, series: a/b, type: int16 }":                     "a coil is one bit; its type is bool",
		"{ table: holding, address: 0, series: a/b, bits: [16] }":                   "[16] are no bits of a uint16",
		"{ table: holding, address: 0, series: a/b, bits: [7, 4] }":                 "[7 4] are no bits of a uint16",
		"{ table: holding, address: 0, series: a/b, byte_order: middle }":           `order "middle" is not known; use high_first or low_first`,
		"{ table: holding, address: 0, series: b }, { table: holding, address: 0 }": "d.yaml:1:89: registers[1].series",
	} {
		var raw deviceKeys
		f, at, err := shape.Read("d.yaml", []byte("{ address: tcp://10.0.0.7:502, registers: ["+keys+"] }"), &raw)
		require.NoError(t, err)
		check(at, "site", raw)
		assert.ErrorContains(t, f.Err(), wrong, keys)
	}
}

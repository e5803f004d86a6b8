package modbus

import (
	"fmt"
	"math"
	"strings"
)

// types lists the types of values in registers. Modbus itself only knows bits and 16-bit words;
// wider values and other readings of them are conventions of devices.
var types = []valueType{
	{name: "bool", words: 1, read: func(bits uint64, _ int) (float64, error) { return truth(bits != 0), nil }},
	{name: "uint16", words: 1, read: unsigned}, {name: "uint32", words: 2, read: unsigned}, {name: "uint48", words: 3, read: unsigned}, {name: "uint64", words: 4, read: unsigned},
	{name: "int16", words: 1, read: signed}, {name: "int32", words: 2, read: signed}, {name: "int48", words: 3, read: signed}, {name: "int64", words: 4, read: signed},
	{
		name:  "float32",
		words: 2,
		read:  func(bits uint64, _ int) (float64, error) { return float64(math.Float32frombits(uint32(bits))), nil },
	},
	{
		name:  "float64",
		words: 4,
		read:  func(bits uint64, _ int) (float64, error) { return math.Float64frombits(bits), nil },
	},
	{name: "bcd16", words: 1, read: decimals}, {name: "bcd32", words: 2, read: decimals}, {name: "bcd64", words: 4, read: decimals},
	{name: "magnitude16", words: 1, read: magnitude}, {name: "magnitude32", words: 2, read: magnitude},
	{name: "text", words: 1, text: true}, // as many registers as its length says
}

// valueType is how registers become a number. 64-bit integers beyond 2^53 lose their
// lowest bits.
type valueType struct {
	name  string
	words int // registers that a value takes
	text  bool
	read  func(bits uint64, words int) (float64, error) // of a number
}

func typeNamed(name string) (valueType, error) {
	known := make([]string, len(types))
	for i, t := range types {
		if known[i] = t.name; t.name == name {
			return t, nil
		}
	}
	return types[1], fmt.Errorf("register type %q is not known; use %s", name, strings.Join(known, ", "))
}

func truth(yes bool) float64 {
	if yes {
		return 1
	}
	return 0
}

func unsigned(bits uint64, _ int) (float64, error) { return float64(bits), nil }

// signed is in two's complement.
func signed(bits uint64, words int) (float64, error) {
	unused := 64 - 16*words
	return float64(int64(bits<<unused) >> unused), nil
}

// decimals are four bits a digit.
func decimals(bits uint64, words int) (float64, error) {
	n := uint64(0)
	for i := 4*words - 1; i >= 0; i-- {
		digit := bits >> (4 * i) & 15
		if digit > 9 {
			return 0, fmt.Errorf("0x%0*X is no binary coded decimal: it holds the digit %X", 4*words, bits, digit)
		}
		n = 10*n + digit
	}
	return float64(n), nil
}

// magnitude has its sign in the highest bit and the size in the others.
func magnitude(bits uint64, words int) (float64, error) {
	sign := uint64(1) << (16*words - 1)
	if bits&sign != 0 {
		return -float64(bits &^ sign), nil
	}
	return float64(bits), nil
}

// order says in which order a device has the words of a wide value, and the bytes of a
// word. Modbus itself has the high byte first (Modbus Application Protocol 1.1b3, 4.2) and
// says nothing of words.
type order struct{ lowWordFirst, lowByteFirst bool }

func (o order) bits(words []uint16) (bits uint64) {
	for i := range words {
		word := words[i]
		if o.lowWordFirst {
			word = words[len(words)-1-i]
		}
		if o.lowByteFirst {
			word = word<<8 | word>>8
		}
		bits = bits<<16 | uint64(word)
	}
	return bits
}

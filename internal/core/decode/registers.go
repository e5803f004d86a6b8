package decode

import (
	"fmt"
	"math"
)

// Type is the type of a value in Modbus registers. Modbus itself only knows bits
// and 16-bit words; wider values are a convention of each device.
type Type string

// The types.
const (
	Bool    Type = "bool"
	Uint16  Type = "uint16"
	Int16   Type = "int16"
	Uint32  Type = "uint32"
	Int32   Type = "int32"
	Float32 Type = "float32"
	Uint64  Type = "uint64"
	Int64   Type = "int64"
	Float64 Type = "float64"
)

// ParseType reads a type; the empty text is uint16.
func ParseType(s string) (Type, error) {
	switch t := Type(s); t {
	case Bool, Uint16, Int16, Uint32, Int32, Float32, Uint64, Int64, Float64:
		return t, nil
	case "":
		return Uint16, nil
	}
	return "", fmt.Errorf("register type %q is not known; use bool, uint16, int16, uint32, int32, float32, uint64, int64 or float64", s)
}

// Words is how many 16-bit registers a value takes.
func (t Type) Words() int {
	switch t {
	case Uint32, Int32, Float32:
		return 2
	case Uint64, Int64, Float64:
		return 4
	}
	return 1
}

// WordOrder says which register of a wide value comes first.
type WordOrder string

// The word orders. Within a word the high byte always comes first, as the Modbus
// Application Protocol 1.1b3, section 4.2, has it.
const (
	HighWordFirst WordOrder = "high_first"
	LowWordFirst  WordOrder = "low_first"
)

// ParseWordOrder reads a word order; the empty text is the high word first.
func ParseWordOrder(s string) (WordOrder, error) {
	switch o := WordOrder(s); o {
	case HighWordFirst, LowWordFirst:
		return o, nil
	case "":
		return HighWordFirst, nil
	}
	return "", fmt.Errorf("word order %q is not known; use high_first or low_first", s)
}

// ReadWords is the value in words, which must be t.Words() long. A bool is whether
// the register is not zero. 64-bit integers beyond 2^53 lose their lowest bits.
func ReadWords(words []uint16, t Type, order WordOrder) (float64, error) {
	if len(words) != t.Words() {
		return 0, fmt.Errorf("a %s takes %d register(s), not %d", t, t.Words(), len(words))
	}
	var bits uint64
	for i := range words {
		word := words[i]
		if order == LowWordFirst {
			word = words[len(words)-1-i]
		}
		bits = bits<<16 | uint64(word)
	}
	switch t {
	case Bool:
		if bits != 0 {
			return 1, nil
		}
		return 0, nil
	case Uint16, Uint32, Uint64:
		return float64(bits), nil
	case Int16:
		return float64(int16(bits)), nil
	case Int32:
		return float64(int32(bits)), nil
	case Int64:
		return float64(int64(bits)), nil
	case Float32:
		return float64(math.Float32frombits(uint32(bits))), nil
	case Float64:
		return math.Float64frombits(bits), nil
	}
	return 0, fmt.Errorf("register type %q is not known", t)
}

package payload

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
)

// spot is where something stands in bytes, and as what.
type spot struct {
	text    string
	byte    int // below 0: counted from the end
	bit     int // counted from the highest of that byte
	inGroup bool
	as      string // int, uint, float, bcd, magnitude, text or hex
	size    int    // bits, or bytes of text and hex
	low     bool   // the lowest byte comes first
}

// absentError says that a payload ends before something.
type absentError struct {
	text   string
	length int
}

func (e absentError) Error() string {
	return fmt.Sprintf("payload of %d bytes ends before %s", e.length, e.text)
}

var spotForm = regexp.MustCompile(`^([+-]?)(\d{1,5})(?:\.([0-7]))? +(int|uint|float|bcd|magnitude|text|hex)(\d{1,3})(?: +(big|little))?$`)

func parseSpot(text string, low bool) (spot, error) {
	found := spotForm.FindStringSubmatch(text)
	if found == nil {
		return spot{}, fmt.Errorf("%q is not a byte and a type; write such as \"4 int16\", \"4.3 uint5\", \"-2 uint16 little\" or, within groups, \"+0 float32\"",
			text)
	}
	s := spot{text: text, inGroup: found[1] == "+", as: found[4], low: low}
	s.byte, _ = strconv.Atoi(found[2])
	s.bit, _ = strconv.Atoi(found[3])
	s.size, _ = strconv.Atoi(found[5])
	if found[1] == "-" {
		s.byte = -s.byte
	}
	if found[6] != "" {
		s.low = found[6] == "little"
	}
	wrong := ""
	switch bytes := s.as == "text" || s.as == "hex"; {
	case s.byte == 0 && found[1] == "-":
		wrong = "the last byte is -1"
	case bytes && (s.size < 1 || s.size > 100):
		wrong = "a text has 1 to 100 bytes"
	case bytes && s.bit > 0:
		wrong = "a text begins with a whole byte"
	case bytes:
	case s.as == "float" && s.size != 16 && s.size != 32 && s.size != 64:
		wrong = "a float has 16, 32 or 64 bits"
	case s.as == "bcd" && (s.size%4 != 0 || s.size > 64 || s.size == 0):
		wrong = "bcd has four bits a digit, to 64"
	case s.size < 1 || s.size > 64 || s.size < 2 && s.as != "uint":
		wrong = "a number has 1 to 64 bits, and one with a sign has 2 or more"
	case s.low && (s.bit > 0 || s.size%8 != 0):
		if found[6] != "" {
			wrong = "numbers that are no whole bytes have no order little"
		}
		s.low = false
	}
	if wrong != "" {
		return spot{}, fmt.Errorf("%q: %s", text, wrong)
	}
	return s, nil
}

// in returns what stands there: an int64, a float64 or a string. A place within a group is counted from its begin.
func (s *spot) in(payload []byte, begin int) (any, error) {
	raw, err := s.bytes(payload, begin)
	if err != nil {
		return nil, err
	}
	return s.read(raw)
}

// bytes returns the bytes of a spot.
func (s *spot) bytes(payload []byte, begin int) ([]byte, error) {
	first := s.byte
	if s.inGroup {
		first += begin
	}
	if first < 0 {
		first += len(payload)
	}
	bytes := (s.bit + s.size + 7) / 8
	if s.as == "text" || s.as == "hex" {
		bytes = s.size
	}
	if first < 0 || first+bytes > len(payload) {
		return nil, absentError{s.text, len(payload)}
	}
	return payload[first : first+bytes], nil
}

// plainNumber reads an integer of up to 53 bits.
func (s *spot) plainNumber(raw []byte) (n float64, plain bool) {
	switch {
	case s.size > 53:
		return 0, false
	case s.as == "uint":
		return float64(s.bits(raw)), true
	case s.as == "int":
		unused := 64 - s.size
		return float64(int64(s.bits(raw)<<unused) >> unused), true
	}
	return 0, false
}

// read returns what the bytes of a spot are.
func (s *spot) read(raw []byte) (any, error) {
	switch s.as {
	case "text":
		return strings.TrimSpace(readText(raw)), nil
	case "hex":
		return hex.EncodeToString(raw), nil
	}
	return s.number(s.bits(raw))
}

// bits returns the bits of a number, the lowest last.
func (s *spot) bits(raw []byte) (bits uint64) {
	if s.low {
		var all [8]byte
		copy(all[:], raw)
		return binary.LittleEndian.Uint64(all[:])
	}
	for i, one := range raw {
		if i == 8 { // a ninth byte, of a number that begins within a byte
			over := 8*9 - s.bit - s.size
			return (bits<<(8-over) | uint64(one)>>over) & s.mask()
		}
		bits = bits<<8 | uint64(one)
	}
	return bits >> (8*len(raw) - s.bit - s.size) & s.mask()
}

func (s *spot) mask() uint64 {
	if s.size == 64 {
		return math.MaxUint64
	}
	return 1<<s.size - 1
}

func (s *spot) number(bits uint64) (any, error) {
	sign := uint64(1) << (s.size - 1)
	switch s.as {
	case "float":
		switch s.size {
		case 16:
			return halfFloat(uint16(bits)), nil
		case 32:
			return float64(math.Float32frombits(uint32(bits))), nil
		}
		return math.Float64frombits(bits), nil
	case "int":
		unused := 64 - s.size
		return int64(bits<<unused) >> unused, nil
	case "magnitude":
		if bits&sign != 0 {
			return -int64(bits &^ sign), nil
		}
	case "bcd":
		n := int64(0)
		for i := s.size/4 - 1; i >= 0; i-- {
			digit := bits >> (4 * i) & 15
			if digit > 9 {
				return nil, fmt.Errorf("0x%0*X at %s is no binary coded decimal: it holds the digit %X", s.size/4,
					bits, s.text, digit)
			}
			n = 10*n + int64(digit)
		}
		return n, nil
	}
	if bits > math.MaxInt64 {
		return float64(bits), nil
	}
	return int64(bits), nil
}

// halfFloat reads a number of 16 bits (IEEE 754, binary16).
func halfFloat(bits uint16) float64 {
	sign, exponent, fraction := 1.0, int(bits>>10&31), float64(bits&1023)/1024
	if bits>>15 == 1 {
		sign = -1
	}
	switch exponent {
	case 0:
		return sign * math.Ldexp(fraction, -14)
	case 31:
		if fraction != 0 {
			return math.NaN()
		}
		return math.Inf(int(sign))
	}
	return sign * math.Ldexp(1+fraction, exponent-15)
}

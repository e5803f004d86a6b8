package probe

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"nexocumula/internal/gateway/modbus"
)

// Sample is the registers from one address on, as they were at one time.
type Sample struct {
	At    int64 // nanoseconds since 1970
	Words []uint16
}

// Hints holds known facts about a value, in its displayed unit.
type Hints struct {
	Low, High float64   // that it lies within; -Inf and +Inf: nothing is known
	Like      []float64 // a value that moves like it, one for each sample; nil: none
}

// NoHints knows nothing.
var NoHints = Hints{Low: math.Inf(-1), High: math.Inf(1)}

// Interpretation is a way to read the registers at one address.
type Interpretation struct {
	Address      int
	Type         string
	Words        int
	LowWordFirst bool
	LowByteFirst bool
	Scale        float64
	Values       []float64 // one for each sample
	Same         []string  // types that read the same in all samples
	Score        float64   // higher is likelier; a difference of 2.3 is ten times
	Why          []string
}

// scales that devices use, with how unusual each is.
var scales = []struct{ by, unusual float64 }{{1, 0}, {0.1, 0.7}, {0.01, 1}, {0.001, 2}, {10, 3}}

// How unusual types are among devices of the field.
var unusual = map[string]float64{
	"uint16": 0, "int16": 0.3, "uint32": 1, "int32": 1.2, "float32": 0.3, "uint48": 5, "int48": 5.5, "uint64": 3.5, "int64": 3.6,
	"float64": 2, "bcd16": 3.5, "bcd32": 4, "bcd64": 6, "magnitude16": 3.5, "magnitude32": 4,
}

const (
	unusualWords = 0.7 // low word first
	unusualBytes = 3   // low byte first
	unusualFloat = 4   // a float that is scaled as well
)

// Interpret reads the registers of the samples, which begin at address first, in all ways, and
// is those for each address in the order of how likely they are, at most most of each.
func Interpret(first int, samples []Sample, h Hints, most int) [][]Interpretation {
	if len(samples) == 0 {
		return nil
	}
	n := len(samples[0].Words)
	out := make([][]Interpretation, n)
	for i := range n {
		var all []Interpretation
		for _, t := range modbus.Types() {
			if i+t.Words > n {
				continue
			}
			for _, lowWords := range []bool{false, true}[:min(t.Words, 2)] {
				for _, lowBytes := range []bool{false, true} {
					all = append(all, read(first+i, i, t, lowWords, lowBytes, samples, h)...)
				}
			}
		}
		out[i] = rank(all, most)
	}
	return out
}

// read reads one type in one order, with the scales that are worth a look.
func read(address, i int, t modbus.Type, lowWords, lowBytes bool, samples []Sample, h Hints) (out []Interpretation) {
	raw := make([]float64, len(samples))
	for k, s := range samples {
		var ok bool
		if raw[k], ok = t.Value(s.Words[i:i+t.Words], lowWords, lowBytes); !ok || math.IsNaN(raw[k]) ||
			math.IsInf(raw[k], 0) {
			return nil
		}
	}
	for _, scale := range scales {
		one := Interpretation{
			Address:      address,
			Type:         t.Name,
			Words:        t.Words,
			LowWordFirst: lowWords,
			LowByteFirst: lowBytes,
			Scale:        scale.by,
			Values:       make([]float64, len(raw)),
		}
		for k, v := range raw {
			if one.Values[k] = v * scale.by; scale.by < 1 {
				one.Values[k] = v / math.Round(1/scale.by) // has the decimals that it should have
			}
		}
		one.weigh(raw, samples, i, scale.unusual, h)
		out = append(out, one)
	}
	return out
}

// rank puts interpretations in order, and those that read the same as a likelier one into
// that one.
func rank(all []Interpretation, most int) (out []Interpretation) {
	slices.SortStableFunc(all, func(a, b Interpretation) int { return cmp.Compare(b.Score, a.Score) })
	for _, one := range all {
		i := slices.IndexFunc(out, func(o Interpretation) bool { return slices.Equal(o.Values, one.Values) })
		switch {
		case i < 0 && len(out) < most:
			out = append(out, one)
		case i >= 0 && !slices.Contains(out[i].Same, one.name()) && out[i].name() != one.name():
			out[i].Same = append(out[i].Same, one.name())
		}
	}
	return out
}

// name returns the type with the orders that are unusual.
func (one *Interpretation) name() string {
	name := one.Type
	if one.LowWordFirst {
		name += ", low word first"
	}
	if one.LowByteFirst {
		name += ", low byte first"
	}
	return name
}

// String returns the interpretation for people.
func (one Interpretation) String() string {
	if one.Scale == 1 {
		return one.name()
	}
	return one.name() + " × " + strconv.FormatFloat(one.Scale, 'g', -1, 64)
}

// Keys returns the keys of a register's line for this interpretation.
func (one *Interpretation) Keys() string {
	var out strings.Builder
	fmt.Fprintf(&out, "address: %d, type: %s", one.Address, one.Type)
	if one.LowWordFirst {
		out.WriteString(", word_order: low_first")
	}
	if one.LowByteFirst {
		out.WriteString(", byte_order: low_first")
	}
	if one.Scale != 1 {
		fmt.Fprintf(&out, ", scale: %v", one.Scale)
	}
	return out.String()
}

// Text reads the registers as letters, two each, from each address on where there are
// four or more in a row; "" where there are none.
func Text(words []uint16) []string {
	out := make([]string, len(words))
	letter := func(b byte) bool { return b >= ' ' && b <= '~' }
	for i := 0; i < len(words); {
		var text []byte
		k := i
		for ; k < len(words); k++ {
			high, low := byte(words[k]>>8), byte(words[k])
			if !letter(high) || !letter(low) && low != 0 {
				break
			}
			if text = append(text, high); low == 0 {
				k++
				break
			}
			text = append(text, low)
		}
		if len(text) >= 4 && strings.ContainsFunc(string(text),
			func(r rune) bool { return r|0x20 >= 'a' && r|0x20 <= 'z' }) {
			out[i] = strings.TrimSpace(string(text))
			i = k
			continue
		}
		i++
	}
	return out
}

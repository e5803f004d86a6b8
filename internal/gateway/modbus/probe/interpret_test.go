package probe

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A quantity of the farm, and what a person in the pump house expects of it.
type quantity struct {
	name            string
	low, high       float64 // expected
	from, to, drift float64
	grows           bool
}

var quantities = []quantity{
	{"oxygen", 0, 20, 6, 12, 0.05, false}, {"water_temp", -2, 35, 2, 20, 0.03, false}, {"inflow", 0, 400, 80, 300, 1, false},
	{"level", 0, 3, 0.5, 2.5, 0.005, false}, {"power", 0, 15, 2, 11, 0.1, false}, {"battery", 10, 15, 11.5, 13.5, 0.01, false},
	{"energy", 1000, 1e6, 5e3, 9e5, 0.3, true}, {"pressure", 900, 1100, 960, 1040, 0.2, false},
}

// Ways in which devices give a value: a type and the decimals it keeps.
var encodings = []struct {
	name     string
	words    int
	decimals []int
	encode   func(v float64) uint64 // of a value in whole steps, or of a float
}{
	{"uint16", 1, []int{0, 1, 2, 3}, func(v float64) uint64 { return uint64(v) }},
	{"int16", 1, []int{0, 1, 2, 3}, func(v float64) uint64 { return uint64(uint16(int16(v))) }},
	{"uint32", 2, []int{0, 1, 2, 3}, func(v float64) uint64 { return uint64(v) }},
	{"int32", 2, []int{0, 1, 2, 3}, func(v float64) uint64 { return uint64(uint32(int32(v))) }},
	{"float32", 2, []int{-1, 2}, func(v float64) uint64 { return uint64(math.Float32bits(float32(v))) }},
	{"float64", 4, []int{-1, 3}, math.Float64bits},
	{
		"bcd32", 2, []int{0, 1, 2},
		func(v float64) (out uint64) { _, _ = fmt.Sscanf(fmt.Sprint(uint64(v)), "%x", &out); return out },
	},
	{
		"bcd16", 1, []int{0, 1, 2},
		func(v float64) (out uint64) { _, _ = fmt.Sscanf(fmt.Sprint(uint64(v)), "%x", &out); return out },
	},
}

// unknown is a device that nobody knows: a register of a quantity among others that mean
// something else.
type unknown struct {
	quantity
	at, words        int
	way              string
	lowWord, lowByte bool
	truth            []float64
	samples          []Sample
	reference        []float64
}

func unknownDevice(random *rand.Rand, samples int) (u unknown) {
	for {
		u = unknown{quantity: quantities[random.IntN(len(quantities))]}
		e := encodings[random.IntN(len(encodings))]
		decimals := e.decimals[random.IntN(len(e.decimals))]
		steps := math.Pow10(max(decimals, 0))
		float := e.name[0] == 'f'
		most := map[string]float64{"uint16": 65535, "int16": 32767, "bcd16": 9999, "bcd32": 99999999}[e.name]
		if !float && (u.to*steps < 20 || most > 0 && u.to*1.1*steps > most) { // no maker would
			continue
		}
		u.way, u.words = e.name, e.words
		u.lowWord, u.lowByte = e.words > 1 && random.IntN(3) == 0, random.IntN(20) == 0
		u.at = random.IntN(4)
		v := u.from + random.Float64()*(u.to-u.from)
		other := random.Uint32()
		for k := range samples {
			if v += random.NormFloat64() * u.drift; u.grows {
				v += 2 * math.Abs(random.NormFloat64()) * u.drift
			}
			v = math.Min(math.Max(v, u.from), u.to*1.05)
			shown, bits := v, uint64(0)
			if decimals >= 0 {
				shown = math.Round(v*steps) / steps
			}
			if float {
				bits = e.encode(shown)
				if e.words == 2 {
					shown = float64(float32(shown))
				}
			} else {
				bits = e.encode(math.Round(v * steps))
			}
			words := make([]uint16, u.at+u.words+3)
			for i := range words { // neighbours: states, settings, something that moves
				words[i] = uint16(other >> (i % 3 * 8))
				if i%4 == 1 {
					words[i] += uint16(k * i)
				}
			}
			for w := range u.words {
				word := uint16(bits >> (16 * (u.words - 1 - w)))
				if u.lowByte {
					word = word<<8 | word>>8
				}
				place := w
				if u.lowWord {
					place = u.words - 1 - w
				}
				words[u.at+place] = word
			}
			u.truth = append(u.truth, shown)
			u.reference = append(u.reference, 3*v+random.NormFloat64()*u.drift/3)
			u.samples = append(u.samples, Sample{int64(k), words})
		}
		return u
	}
}

// found returns the place of the right reading among those at its address, from 1; 0: it is not there.
func (u *unknown) found(all []Interpretation) int {
	for i, one := range all {
		right := true
		for k, v := range one.Values {
			right = right && math.Abs(v-u.truth[k]) <= 1e-6*math.Max(1, math.Abs(u.truth[k]))
		}
		if right {
			return i + 1
		}
	}
	return 0
}

func TestTheRightReadingIsFirstOrSecondFor95Of100UnknownRegisters(t *testing.T) {
	for name, hints := range map[string]func(u unknown) Hints{
		"with what is expected": func(u unknown) Hints { return Hints{Low: u.low, High: u.high} },
		"and moving alike":      func(u unknown) Hints { return Hints{Low: u.low, High: u.high, Like: u.reference} },
	} {
		t.Run(name, func(t *testing.T) {
			random := rand.New(rand.NewPCG(17, 4))
			places := map[int]int{}
			const cases = 500
			for range cases {
				u := unknownDevice(random, 12)
				all := Interpret(100, u.samples, hints(u), 8)
				place := u.found(all[u.at])
				places[place]++
				if place == 0 || place > 2 {
					t.Logf("%s as %s (low word first %t, low byte first %t) is at place %d: %v; first is %s: %v %v",
						u.name, u.way, u.lowWord, u.lowByte, place, u.truth[:3], all[u.at][0], all[u.at][0].Values[:3],
						all[u.at][0].Why)
				}
			}
			t.Logf("places: %v", places)
			assert.GreaterOrEqual(t, places[1]+places[2], cases*95/100)
		})
	}
}

func TestInterpretationsThatReadTheSameAreOne(t *testing.T) {
	all := Interpret(7, []Sample{{0, []uint16{0x0451}}, {1, []uint16{0x0452}}}, Hints{Low: 0, High: 20}, 5)
	require.Len(t, all, 1)
	first := all[0][0]
	assert.Equal(t, "uint16 × 0.01", first.String())
	assert.Equal(t, []float64{11.05, 11.06}, first.Values)
	assert.Contains(t, first.Same, "int16")
	assert.Equal(t, "address: 7, type: uint16, scale: 0.01", first.Keys())
	assert.Contains(t, first.Why, "within 0 to 20")
	assert.Nil(t, Interpret(0, nil, NoHints, 3))
}

func TestLettersAreFound(t *testing.T) {
	words := []uint16{1, 'F'<<8 | 'e', 'l'<<8 | 'l', '-'<<8 | '2', 0, 'x'<<8 | 'y', 9}
	assert.Equal(t, []string{"", "Fell-2", "", "", "", "", ""}, Text(words))
}

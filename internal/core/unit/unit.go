// Package unit converts between units that measure the same.
//
// Symbols are SenML's: the registry of RFC 8428, section 12.1, and the secondary units
// of RFC 8798, section 3. A few that water works write and neither names stand at the
// end of the table.
package unit

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
)

type unit struct {
	symbol, base  string
	scale, offset float64 // a value in the base is value·scale + offset
}

// Every base is a unit by itself as well.
var units = []unit{
	{"Cel", "K", 1, 273.15},
	{"deg", "rad", math.Pi / 180, 0},
	{"ms", "s", 1e-3, 0}, {"min", "s", 60, 0}, {"h", "s", 3600, 0},
	{"MHz", "Hz", 1e6, 0},
	{"kW", "W", 1000, 0}, {"kVA", "VA", 1000, 0}, {"kvar", "var", 1000, 0},
	{"Ah", "C", 3600, 0},
	{"Wh", "J", 3600, 0}, {"kWh", "J", 3.6e6, 0},
	{"varh", "vars", 3600, 0}, {"kvarh", "vars", 3.6e6, 0}, {"kVAh", "VAs", 3.6e6, 0},
	{"Wh/km", "J/m", 3.6, 0},
	{"KiB", "B", 1024, 0}, {"GB", "B", 1e9, 0},
	{"Mbit/s", "bit/s", 1e6, 0}, {"B/s", "bit/s", 8, 0}, {"MB/s", "bit/s", 8e6, 0},
	{"mV", "V", 1e-3, 0}, {"mA", "A", 1e-3, 0},
	{"dBm", "dBW", 1, -30},
	{"ug/m3", "kg/m3", 1e-9, 0},
	{"mm/h", "m/s", 1 / 3.6e6, 0}, {"m/h", "m/s", 1.0 / 3600, 0}, {"km/h", "m/s", 1 / 3.6, 0},
	{"ppm", "/", 1e-6, 0}, {"/100", "/", 0.01, 0}, {"/1000", "/", 1e-3, 0},
	{"hPa", "Pa", 100, 0},
	{"mm", "m", 1e-3, 0}, {"cm", "m", 1e-2, 0}, {"km", "m", 1000, 0},
	{"g", "kg", 1e-3, 0}, {"l", "m3", 1e-3, 0}, {"l/s", "m3/s", 1e-3, 0},

	{"%", "/", 0.01, 0}, // in the first registry, without its base
	{"mg/l", "kg/m3", 1e-3, 0}, {"g/l", "kg/m3", 1, 0},
	{"m3/h", "m3/s", 1.0 / 3600, 0}, {"l/min", "m3/s", 1e-3 / 60, 0},
	{"degF", "K", 5.0 / 9, 459.67 * 5 / 9}, // NIST SP 811, appendix B, as are those that follow
	{"kn", "m/s", 1852.0 / 3600, 0}, {"mi/h", "m/s", 0.44704, 0}, {"ft", "m", 0.3048, 0}, {"in", "m", 0.0254, 0}, {"lb", "kg", 0.45359237, 0},
	{"psi", "Pa", 6894.757293168361, 0}, {"gal/min", "m3/s", 3.785411784e-3 / 60, 0},
	{"bar", "Pa", 1e5, 0}, {"mbar", "Pa", 100, 0}, {"kPa", "Pa", 1000, 0},
}

// perTime are the names of base units per second; of others it is the name with /s.
var perTime = map[string]string{"J": "W", "C": "A", "vars": "var", "VAs": "VA"}

var seconds = []struct {
	name string
	size float64
}{{"s", 1}, {"min", 60}, {"h", 3600}, {"d", 86400}}

// find resolves a symbol of the table, one per time, such as kWh/h, or one times a time,
// such as Cel h.
func find(symbol string) unit {
	for _, u := range units {
		if u.symbol == symbol {
			return u
		}
	}
	for _, t := range seconds {
		if of, ok := strings.CutSuffix(symbol, "/"+t.name); ok && of != "" {
			u := find(of)
			base := perTime[u.base]
			if base == "" {
				base = u.base + "/s"
			}
			return unit{symbol, base, u.scale / t.size, 0}
		}
		if of, ok := strings.CutSuffix(symbol, " "+t.name); ok && of != "" {
			u := find(of)
			if u.offset != 0 {
				u = unit{of, of, 1, 0} // degrees above another zero, for a time, are another thing
			}
			return unit{symbol, timesSecond(u.base), u.scale * t.size, 0}
		}
	}
	return unit{symbol, symbol, 1, 0}
}

func timesSecond(base string) string {
	for of, per := range perTime {
		if per == base {
			return of
		}
	}
	if of, ok := strings.CutSuffix(base, "/s"); ok && of != "" {
		return of
	}
	return base + " s"
}

// Per returns the symbol of a unit per s, min, h or d.
func Per(of, time string) string {
	if of == "" {
		of = "1"
	}
	return of + "/" + time
}

// TimesSecond returns a plain unit for values of a unit times seconds, and how many of it one of
// these is: l for l/s, m3 for m3/h, kWh for kW.
func TimesSecond(of string) (symbol string, scale float64) {
	if of == "kW" {
		return "kWh", 1.0 / 3600
	}
	for _, t := range seconds {
		if amount, ok := strings.CutSuffix(of, "/"+t.name); ok && amount != "" {
			return amount, 1 / t.size
		}
	}
	u := find(of)
	if base := timesSecond(u.base); u.scale == 1 && u.offset == 0 && base != u.base+" s" {
		return base, 1
	}
	if of == "" {
		return "s", 1
	}
	return of + " s", 1
}

// Conversion turns values into another unit: value·Scale + Offset.
type Conversion struct{ Scale, Offset float64 }

// tidy takes away what only dividing has added: 1.8 is 1.8, and not 1.7999999999999998. What
// has more digits stays as it is.
func tidy(x float64) float64 {
	out, err := strconv.ParseFloat(strconv.FormatFloat(x, 'g', 13, 64), 64)
	if err != nil || math.Abs(out-x) > 1e-14*math.Abs(x) {
		return x
	}
	return out
}

// Convert finds the conversion from one unit to another, or says into which units
// values can be converted.
func Convert(from, to string) (Conversion, error) {
	a, b := find(from), find(to)
	if a.base == b.base {
		return Conversion{tidy(a.scale / b.scale), tidy((a.offset - b.offset) / b.scale)}, nil
	}
	if from == "" {
		return Conversion{}, fmt.Errorf("values without a unit cannot be converted to %s", to)
	}
	var near []string
	for _, u := range units {
		if u.base == a.base && u.symbol != from {
			near = append(near, u.symbol)
		}
	}
	if a.base != from {
		near = append(near, a.base)
	}
	if len(near) == 0 {
		return Conversion{}, fmt.Errorf("%s cannot be converted to %s, nor to any other unit known here", from, to)
	}
	slices.Sort(near)
	return Conversion{}, fmt.Errorf("%s cannot be converted to %s; possible are %s", from, to, strings.Join(near, ", "))
}

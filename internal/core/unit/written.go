package unit

import (
	"slices"
	"strings"
)

// writings are how people write units whose symbol reads otherwise.
var writings = map[string]string{
	"Cel": "°C", "degF": "°F", "deg": "°", "m3": "m³", "m2": "m²", "m3/s": "m³/s", "m3/h": "m³/h", "kg/m3": "kg/m³", "ug/m3": "µg/m³", "/": "", "%RH": "% RH",
	"/100": "%", "/1000": "‰", "bit/s": "bit/s", "Ohm": "Ω", "pH": "pH", "S/m": "S/m", "W/m2": "W/m²", "m/s2": "m/s²", "kn": "kn", "mi/h": "mph", "1/min": "rpm", "count": "", "lx": "lx",
}

// Written is a unit as people write it, such as °C for Cel.
func Written(symbol string) string {
	if text, ok := writings[symbol]; ok {
		return text
	}
	for _, t := range seconds {
		if of, ok := strings.CutSuffix(symbol, "/"+t.name); ok && of != "" {
			return Written(of) + "/" + t.name
		}
		if of, ok := strings.CutSuffix(symbol, " "+t.name); ok && of != "" {
			return Written(of) + "·" + t.name
		}
	}
	return symbol
}

// OfWriting returns the symbol of a unit that somebody wrote as people do, such as Cel for °C; "" of others.
func OfWriting(text string) string {
	for symbol, written := range writings {
		if written == text && symbol != text && text != "" && text != "%" { // which is so common that it is a symbol as well
			return symbol
		}
	}
	return ""
}

// Like are the other units that measure the same, in order.
func Like(symbol string) (out []string) {
	base := find(symbol).base
	for _, u := range units {
		if u.base == base && u.symbol != symbol {
			out = append(out, u.symbol)
		}
		if u.base == base && base != symbol && !slices.Contains(out, base) {
			out = append(out, base)
		}
	}
	slices.Sort(out)
	return out
}

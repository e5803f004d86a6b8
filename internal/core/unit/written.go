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

// Written returns a unit as people write it, such as °C for Cel.
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
		if written == text && symbol != text && text != "" &&
			text != "%" { // which is so common that it is a symbol as well
			return symbol
		}
	}
	return ""
}

// words lists what people write for units, besides what Written returns.
var words = map[string]string{
	"c": "Cel", "degc": "Cel", "celsius": "Cel", "deg c": "Cel", "fahrenheit": "degF", "kelvin": "K", "percent": "%", "pct": "%", "volt": "V", "volts": "V", "ampere": "A", "amps": "A",
	"watt": "W", "litre": "l", "liter": "l", "litres/min": "l/min", "lpm": "l/min", "m3h": "m3/h", "cbm": "m3", "meter": "m", "metre": "m", "meters": "m", "mps": "m/s", "kmh": "km/h", "kph": "km/h",
	"degree": "deg", "degrees": "deg", "second": "s", "seconds": "s", "sec": "s", "hours": "h", "minutes": "min", "mgl": "mg/l", "hertz": "Hz",
}

// Suggest returns the symbol of a unit that is written in another way, such as Cel for °C or celsius; "" of others.
func Suggest(text string) string {
	if symbol := OfWriting(text); symbol != "" || find(text).base != text {
		return symbol
	}
	low := strings.ToLower(strings.TrimSpace(text))
	if symbol := words[low]; symbol != "" && symbol != text {
		return symbol
	}
	for _, u := range units {
		for _, symbol := range []string{u.symbol, u.base} {
			if strings.ToLower(symbol) == low && symbol != text && !isSymbol(text) {
				return symbol
			}
		}
	}
	return ""
}

// Known returns the symbol of a unit as somebody wrote it, or "" where it is none of the table.
func Known(text string) string {
	if isSymbol(text) {
		return text
	}
	return Suggest(text)
}

// isSymbol reports whether a text is a unit of the table.
func isSymbol(text string) bool {
	return slices.ContainsFunc(units, func(u unit) bool { return u.symbol == text || u.base == text })
}

// Like returns the other units that measure the same, in order.
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

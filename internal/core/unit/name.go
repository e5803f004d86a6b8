package unit

import "strings"

// ends maps endings of quantities' names to the units that they stand for.
var ends = map[string]string{
	"c": "Cel", "degc": "Cel", "celsius": "Cel", "temp": "Cel", "temperature": "Cel",
	"percent": "%", "pct": "%", "humidity": "%RH", "ph": "pH",
	"v": "V", "volt": "V", "volts": "V", "voltage": "V", "mv": "mV", "amps": "A", "ma": "mA", "current": "A",
	"w": "W", "watts": "W", "kw": "kW", "kwh": "kWh", "wh": "Wh", "hz": "Hz",
	"pa": "Pa", "hpa": "hPa", "kpa": "kPa", "mm": "mm", "cm": "cm", "lux": "lx", "mps": "m/s", "rpm": "1/min", "mgl": "mg/l", "deg": "deg",
}

// FromName returns the unit that the name of a quantity seems to say, such as Cel of water_temp; "" when it
// says none. It is a guess, to be shown to people.
func FromName(quantity string) string {
	words := strings.FieldsFunc(strings.ToLower(quantity),
		func(r rune) bool { return r == '_' || r == '-' || r == '.' })
	if len(words) == 0 || len(words) == 1 && len(words[0]) < 2 {
		return ""
	}
	last := words[len(words)-1]
	for len(words) > 1 && strings.Trim(last, "0123456789") != last && ends[last] == "" { // water_temp_1m
		words = words[:len(words)-1]
		last = words[len(words)-1]
	}
	return ends[last]
}

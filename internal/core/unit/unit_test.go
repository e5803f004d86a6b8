package unit

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Expected values are from the definitions of the units, not from the table.
func TestConversionsByHand(t *testing.T) {
	for _, test := range []struct {
		value    float64
		from, to string
		want     float64
	}{
		{25, "Cel", "K", 298.15},
		{0, "K", "Cel", -273.15},
		{3, "kWh", "J", 10_800_000},
		{7_200_000, "J", "kWh", 2},
		{1.5, "kWh", "Wh", 1500},
		{36, "km/h", "m/s", 10},
		{30, "dBm", "dBW", 0},
		{10, "dBW", "dBm", 40},
		{1013.25, "hPa", "Pa", 101_325},
		{1, "bar", "hPa", 1000},
		{50, "%", "/", 0.5},
		{0.02, "/", "%", 2},
		{8, "mg/l", "kg/m3", 0.008},
		{3600, "m3/h", "l/s", 1000},
		{180, "deg", "rad", math.Pi},
		{3, "kWh/h", "kW", 3},
		{2, "kWh/s", "kW", 7200},
		{6, "l/min", "l/s", 0.1},
		{6, "Cel/h", "K/min", 0.1},
		{12, "m3/d", "l/s", 12_000.0 / 86400},
		{1, "l/s h", "m3", 3.6},
		{7200, "kW s", "kWh", 2},
		{5, "Cel h", "Cel s", 18_000},
		{4, "Cel", "Cel", 4},
		{20, "Cel", "degF", 68},
		{10, "kn", "km/h", 18.52},
		{4, "pH", "pH", 4},
	} {
		c, err := Convert(test.from, test.to)
		require.NoError(t, err)
		assert.InDelta(t, test.want, test.value*c.Scale+c.Offset, 1e-9, "%v %s in %s", test.value, test.from, test.to)
	}
}

func TestUnitsThatMeasureSomethingElseAreRefused(t *testing.T) {
	for pair, wrong := range map[[2]string]string{
		{"Cel", "Pa"}:      "Cel cannot be converted to Pa; possible are K",
		{"hPa", "m"}:       "possible are Pa, bar, kPa, mbar",
		{"pH", "Cel"}:      "nor to any other unit known here",
		{"Cel s", "K s"}:   "cannot be converted",
		{"kWh", "kW"}:      "cannot be converted",
		{"", "Cel"}:        "without a unit",
		{"%RH", "/"}:       "nor to any other",
		{"Cel", "celsius"}: "possible are K",
	} {
		_, err := Convert(pair[0], pair[1])
		assert.ErrorContains(t, err, wrong)
	}
}

func TestValuesTimesSecondsHavePlainUnits(t *testing.T) {
	for of, want := range map[string]struct {
		symbol string
		scale  float64
	}{
		"l/s":  {"l", 1},
		"m3/h": {"m3", 1.0 / 3600},
		"W":    {"J", 1},
		"kW":   {"kWh", 1.0 / 3600},
		"Cel":  {"Cel s", 1},
		"mg/l": {"mg/l s", 1},
		"":     {"s", 1},
	} {
		symbol, scale := TimesSecond(of)
		assert.Equal(t, want.symbol, symbol, of)
		assert.Equal(t, want.scale, scale, of)
		c, err := Convert(of+" s", symbol)
		if of != "" {
			require.NoError(t, err, of)
			assert.InEpsilon(t, want.scale, c.Scale, 1e-12, of)
		}
	}
}

func TestPeopleWriteUnitsAsTheyReadThem(t *testing.T) {
	for symbol, want := range map[string]string{
		"Cel":     "°C",
		"mg/l":    "mg/l",
		"m3/h":    "m³/h",
		"":        "",
		"m3/d":    "m³/d",
		"Cel h":   "°C·h",
		"deg":     "°",
		"furlong": "furlong",
	} {
		assert.Equal(t, want, Written(symbol), symbol)
	}
	assert.Equal(t, []string{"K", "degF"}, Like("Cel"))
	assert.Equal(t, []string{"Cel", "degF"}, Like("K"))
	assert.Empty(t, Like("furlong"))
	by, err := Convert("Cel", "degF")
	require.NoError(t, err)
	assert.Equal(t, Conversion{1.8, 32}, by, "without what only dividing has added")
}

func TestAUnitAsPeopleWriteItHasItsSymbol(t *testing.T) {
	for text, symbol := range map[string]string{
		"°C":      "Cel",
		"°F":      "degF",
		"m³/h":    "m3/h",
		"µg/m³":   "ug/m3",
		"Ω":       "Ohm",
		"Cel":     "",
		"%":       "",
		"mg/l":    "",
		"pH":      "",
		"":        "",
		"widgets": "",
	} {
		assert.Equal(t, symbol, OfWriting(text), text)
	}
}

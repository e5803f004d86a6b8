package unit

import (
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
		{4, "Cel", "Cel", 4},
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
		{"", "Cel"}:        "without a unit",
		{"%RH", "/"}:       "nor to any other",
		{"Cel", "celsius"}: "possible are K",
	} {
		_, err := Convert(pair[0], pair[1])
		assert.ErrorContains(t, err, wrong)
	}
}

package cli

import (
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

// drawn are six windows of an hour.
func drawn(all ...client.SeriesWindows) client.Windows {
	from := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	out := client.Windows{
		From:   from,
		To:     from.Add(6 * time.Hour),
		Width:  "1h",
		Stats:  []string{"mean", "min", "max"},
		Series: all,
	}
	for i := range 6 {
		out.Starts = append(out.Starts, from.Add(time.Duration(i)*time.Hour))
		out.Ends = append(out.Ends, from.Add(time.Duration(i+1)*time.Hour))
	}
	return out
}

func TestStatesAreDrawnAsStripsBelowOneAnother(t *testing.T) {
	none := math.NaN()
	states := map[string]float64{"off": 0, "on": 1}
	text := charts(drawn(
		client.SeriesWindows{
			SeriesAbout: client.SeriesAbout{Name: "stony-beck/raceway-1/aerator", States: states},
			Values:      map[string]client.Numbers{"min": {0, 0, 1, none, 1, 7}, "max": {0, 1, 1, none, 1, 7}},
		},
		client.SeriesWindows{
			SeriesAbout: client.SeriesAbout{Name: "a/b", States: states},
			Values:      map[string]client.Numbers{"min": {1, 1, 1, 1, 1, 1}, "max": {1, 1, 1, 1, 1, 1}},
		},
	))
	require.Len(t, text, 1)
	lines := strings.Split(text[0], "\n")
	twelve := func(glyph string) string { return strings.Repeat(glyph, 12) }
	assert.Equal(t,
		"stony-beck/raceway-1/aerator ▕"+twelve("░")+twelve("▚")+twelve("█")+twelve(" ")+twelve("█")+twelve("?")+"▏",
		lines[0])
	assert.Equal(t, strings.Repeat(" ", 25)+"a/b ▕"+strings.Repeat("█", 72)+"▏", lines[1])
	assert.Contains(t, lines[2], "░ off  █ on  ▚ several")
}

func TestSeriesOfOneUnitShareAnAxis(t *testing.T) {
	line := func(name, unit string, by float64) client.SeriesWindows {
		return client.SeriesWindows{
			SeriesAbout: client.SeriesAbout{Name: name, Unit: unit},
			Values:      map[string]client.Numbers{"mean": {by, by + 1, by + 2, by + 3, by + 2, by + 1}},
		}
	}
	text := charts(drawn(line("r1", "Cel", 0), line("r2", "Cel", 5), line("o", "mg/l", 7)))
	require.Len(t, text, 2)
	assert.Contains(t, text[0], "1  r1\n  2  r2")
	assert.Contains(t, text[0], "mean of 1h windows, 03-01 00:00Z to 03-01 06:00Z, °C")
	assert.Contains(t, text[0], "222222")
	assert.Contains(t, text[1], "o, mean of 1h windows")
	assert.Empty(t, charts(drawn(client.SeriesWindows{
		SeriesAbout: client.SeriesAbout{Name: "nothing"},
		Values:      map[string]client.Numbers{"mean": {math.NaN(), math.NaN()}},
	})))
}

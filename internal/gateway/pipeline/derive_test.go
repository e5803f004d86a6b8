package pipeline

import (
	"log/slog"
	"math"
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
)

const derived = `data: ./data
gateway:
  site: long-mere
  series:
    - { select: +/+/air_temp, unit: K, fresh_for: 60s }
    - { select: +/+/humidity, unit: "%", fresh_for: 60s }
    - select: +/+/dew_point
      unit: Cel
      high: 40
      derive:
        # Magnus formula with the constants of Sonntag (1990)
        formula: "243.12 * (log(h / 100) + 17.62 * t / (243.12 + t)) / (17.62 - log(h / 100) - 17.62 * t / (243.12 + t))"
        from: { t: air_temp in Cel, h: humidity }
    - { select: long-mere/cage/lag, unit: K, derive: { formula: "a - b", from: { a: mast/air_temp, b: shore/air_temp } } }
`

// dewPoint returns the same from the definition: the temperature whose saturation pressure is that
// of the vapour.
func dewPoint(celsius, humidity float64) float64 {
	vapour := humidity / 100 * 6.112 * math.Exp(17.62*celsius/(243.12+celsius))
	x := math.Log(vapour / 6.112)
	return 243.12 * x / (17.62 - x)
}

func TestASeriesIsMadeOfOthersAsTheyCome(t *testing.T) {
	settings, err := config.Parse("f.yaml", []byte(derived), config.Kinds{})
	require.NoError(t, err)
	st, err := store.Open(filepath.Join(t.TempDir(), "s.db"), slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(t, err)
	defer st.Close()
	g := *settings.Gateway
	p, err := New(st, g, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	from := &reading.Origin{Source: "own", Place: "p"}
	type at struct {
		time  int64
		value float64
	}
	given := map[series.Path][]at{}
	made := map[series.Path]map[int64]float64{}
	random := rand.New(rand.NewPCG(8, 9))
	base := time.Now().Add(-2 * time.Hour).UnixNano()
	for i := range 400 { // one or two readings a message, each some time later
		d := &Delivery{}
		now := base + int64(i)*int64(7*time.Second)
		for _, path := range []series.Path{
			"long-mere/mast/air_temp", "long-mere/mast/humidity", "long-mere/shore/air_temp",
		} {
			if random.IntN(3) == 0 || i%97 < 12 && path == "long-mere/mast/humidity" { // silent for a while
				continue
			}
			value := 280 + 10*random.Float64()
			if path == "long-mere/mast/humidity" {
				value = 30 + 69*random.Float64()
			}
			d.Readings = append(d.Readings, reading.Reading{Path: path, Time: now, Value: value, From: from})
			given[path] = append(given[path], at{now, value})
		}
		require.NoError(t, p.screen(d))
		for _, s := range d.screened {
			if made[s.series.def.Path] == nil {
				made[s.series.def.Path] = map[int64]float64{}
			}
			made[s.series.def.Path][s.time] = s.value
		}
	}
	holds := func(path series.Path, now int64) (float64, bool) {
		for i := len(given[path]) - 1; i >= 0; i-- {
			if r := given[path][i]; r.time <= now {
				return r.value, now-r.time <= int64(time.Minute)
			}
		}
		return 0, false
	}
	wanted := map[int64]float64{}
	for _, path := range []series.Path{"long-mere/mast/air_temp", "long-mere/mast/humidity"} {
		for _, r := range given[path] {
			k, ok := holds("long-mere/mast/air_temp", r.time)
			h, also := holds("long-mere/mast/humidity", r.time)
			if ok && also {
				wanted[r.time] = dewPoint(k-273.15, h)
			}
		}
	}
	require.Len(t, made["long-mere/mast/dew_point"], len(wanted))
	for when, v := range wanted {
		assert.InDelta(t, v, made["long-mere/mast/dew_point"][when], 1e-9)
	}
	assert.Empty(t, made["long-mere/shore/dew_point"], "the shore has no humidity")
	assert.NotEmpty(t, made["long-mere/cage/lag"])
	for when, v := range made["long-mere/cage/lag"] {
		a, _ := holds("long-mere/mast/air_temp", when)
		b, _ := holds("long-mere/shore/air_temp", when)
		assert.InDelta(t, a-b, v, 1e-9)
	}
	s, ok := st.Find("long-mere/mast/dew_point")
	require.True(t, ok)
	assert.Equal(t, "Cel", s.Unit, "stored and rolled up as any other")

	// To try something shows what would follow from it, with what holds now, and changes nothing.
	now := base + 400*int64(7*time.Second)
	trial := func() []Trial {
		return p.Try([]reading.Reading{
			{Path: "long-mere/mast/air_temp", Time: now, Value: 283.15, From: from},
			{Path: "long-mere/mast/humidity", Time: now, Value: 50, From: from},
		})
	}
	tried := trial()
	require.GreaterOrEqual(t, len(tried), 3)
	assert.Equal(t, series.Path("long-mere/mast/dew_point"), tried[2].Reading.Path)
	assert.InDelta(t, dewPoint(10, 50), tried[2].Value, 1e-9)
	assert.Len(t, tried[2].Windows, 2)
	assert.Equal(t, tried, trial())
	alone := TryRules(g, []reading.Reading{{
		Path:  "long-mere/mast/air_temp",
		Time:  now,
		Value: 283.15,
		From:  from,
	}}, now)
	assert.Len(t, alone, 1, "by the rules alone nothing is known of the humidity")
}

func TestWhatCannotBeDerivedIsRefused(t *testing.T) {
	for line, wrong := range map[string]string{
		`{ select: "+/+/x", derive: { formula: "a +", from: { a: b } } }`:              "formula:",
		`{ select: "+/+/x", derive: { formula: "1", from: {} } }`:                      "say which series",
		`{ select: "+/#", derive: { formula: "a", from: { a: b } } }`:                  "ends with its quantity",
		`{ select: "+/+/x", derive: { formula: "a", from: { a: x } } }`:                "of itself",
		`{ select: "+/+/x", derive: { formula: "a", from: { a: b/c } } }`:              "without wildcards",
		`{ select: "+/+/x", derive: { formula: "a", from: { in: b } } }`:               "no name for a formula",
		`{ select: "+/+/x", derive: { formula: "a", from: { a: "air_temp in kg" } } }`: "the formula wants kg",
		`{ select: "+/+/x", derive: { formula: "a", from: { a: dew } } }`:              "made of others itself",
		`{ select: "+/+/x", derive: { formula: "a", from: { a: energy } } }`:           "is a counter",
	} {
		text := "data: ./d\ngateway:\n  site: long-mere\n  series:\n    - " + line + "\n    - { select: +/+/air_temp, unit: K }\n    - { select: +/+/energy, kind: counter }\n    - { select: +/+/dew, derive: { formula: t, from: { t: air_temp } } }\n"
		_, err := config.Parse("f.yaml", []byte(text), config.Kinds{})
		assert.ErrorContains(t, err, wrong, line)
	}
}

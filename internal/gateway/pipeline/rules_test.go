package pipeline

import (
	"log/slog"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
)

const screenedFile = `data: ./data
gateway:
  site: stony-beck
  series: [{ select: "#", unit: "%", CALIBRATION screens: [{ change: 10, per: 1m }, { name: doubt, range: [0, 90], then: uncertain }] }]
`

func rulesOf(t *testing.T, calibration string) config.Gateway {
	settings, err := config.Parse("f.yaml", []byte(strings.Replace(screenedFile, "CALIBRATION", calibration, 1)),
		config.Kinds{})
	require.NoError(t, err)
	return *settings.Gateway
}

// outcome gives a reading of the silo, and is what becomes of it: its value, the rule that
// refused it, and what its quality says.
func outcome(t *testing.T, p *Pipeline, at time.Time, raw float64) (value float64, rule string, quality float64) {
	d := &Delivery{Readings: []reading.Reading{{
		Path:  "stony-beck/silo/level",
		Time:  at.UnixNano(),
		Value: raw,
		From:  &reading.Origin{Source: "own", Place: "p"},
	}}}
	require.NoError(t, p.screen(d))
	for _, r := range d.Rejects {
		assert.Equal(t, raw, r.Reading.Value, "a reject keeps the value before it was calibrated")
		return 0, r.Rule, 0
	}
	require.Len(t, d.screened, 2)
	assert.Equal(t, series.Path("stony-beck/silo/level/quality"), d.screened[1].series.def.Path)
	return d.screened[0].value, "", d.screened[1].value
}

func TestScreensRememberOverRulesButNotOverAnotherCalibration(t *testing.T) {
	file := filepath.Join(t.TempDir(), "s.db")
	open := func(settings config.Gateway) (*Pipeline, *store.Store) {
		st, err := store.Open(file, slog.New(slog.DiscardHandler), store.Options{})
		require.NoError(t, err)
		p, err := New(st, settings, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		return p, st
	}
	plain, scaled := rulesOf(t, ""), rulesOf(t, "calibration: [{ scale: 0.1 }],")
	p, st := open(plain)
	at := time.Now().Add(-time.Hour)
	check := func(after time.Duration, raw, wanted float64, rule string, doubt float64) {
		t.Helper()
		v, by, quality := outcome(t, p, at.Add(after), raw)
		assert.Equal(t, []any{wanted, rule, doubt}, []any{v, by, quality})
	}
	check(0, 50, 50, "", 0)
	check(10*time.Second, 80, 0, "change", 0)
	p.Use(plain.Rules, nil) // the same again
	check(20*time.Second, 80, 0, "change", 0)
	check(30*time.Second, 51, 51, "", 0)
	p.Use(scaled.Rules, nil)
	check(40*time.Second, 510, 51, "", 0)
	check(50*time.Second, 900, 0, "change", 0)
	check(10*time.Minute, 950, 95, "", 1)
	check(11*time.Minute, 20, 2, "", 0) // a doubted reading is nothing to compare with
	known, ok := st.Find("stony-beck/silo/level")
	require.True(t, ok)
	all, err := st.Versions.Of(known.ID, known.Definition)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, []series.Calibration{"raw × 0.1 + 0", ""},
		[]series.Calibration{all[0].Calibration, all[1].Calibration})
	require.NoError(t, st.Close())
}

func TestASeriesTellsHowOftenItIsHeard(t *testing.T) {
	var r rhythm
	at := int64(1e18)
	for i := range 4 {
		r.heard(at + int64(i)*int64(10*time.Second))
	}
	assert.Zero(t, r.every(), "three gaps say nothing yet")
	for i := 4; i < 40; i++ {
		late := int64(i%3) * int64(3*time.Millisecond)
		r.heard(at + int64(i)*int64(10*time.Second) + late)
		r.heard(at) // late ones say nothing
	}
	assert.Equal(t, 10*time.Second, r.every())
	for i := range 10 {
		r.heard(at + int64(40+6*i)*int64(100*time.Second))
	}
	assert.Equal(t, 10*time.Minute, r.every(), "it follows")
}

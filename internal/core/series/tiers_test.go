package series

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTiersAreMultiplesOfTheOneBefore(t *testing.T) {
	tiers, err := ParseTiers([]string{"10s", "1m", "15m", "1h", "1d"})
	require.NoError(t, err)
	assert.Equal(t, "10s,1m,15m,1h,1d", tiers.String())
	assert.Equal(t, TenSecond, tiers.Narrowest())
	again, err := MakeTiers(tiers.All())
	require.NoError(t, err)
	assert.True(t, tiers == again, "equal tiers are the same")
	usual, err := ParseTiers([]string{"10s", "1m"})
	require.NoError(t, err)
	assert.Equal(t, []any{Tiers{}, TenSecond, "10s,1m"}, []any{usual, usual.Narrowest(), usual.String()})
	for _, bad := range [][]string{
		{}, {"0s"}, {"1500ms"}, {"2d"}, {"x"}, {"10s", "15s"}, {"1m", "10s"}, {"10s", "10s"},
		{"1s", "2s", "4s", "8s", "16s", "32s", "64s", "128s", "256s"},
	} {
		_, err := ParseTiers(bad)
		assert.Error(t, err, "%v", bad)
	}
	_, err = MakeTiers([]Tier{TenSecond + 1})
	assert.Error(t, err)
}

func TestDefinitionsAreWrittenAndReadBack(t *testing.T) {
	hours, err := ParseTiers([]string{"1m", "1h"})
	require.NoError(t, err)
	full := Definition{
		Path: "stony-beck/pump/energy", Kind: Counter, Unit: "W.h", FreshFor: 90e9, Wrap: 65536, Labels: "depth=3m", States: "0=off,1=on",
		Calibration: "raw × 2 + 0, since 2026-03-01T08:00:00Z", Normal: "inner=6..12", Every: 10e9, Sketch: true, Tiers: hours,
		Thinning: Thinning{Method: Deadband, Within: 0.1, Silence: DefaultSilence},
	}
	for _, def := range []Definition{full, {Path: "stony-beck/pump/power", Kind: Gauge, FreshFor: 60e9}} {
		text, err := json.Marshal(def)
		require.NoError(t, err)
		var back Definition
		require.NoError(t, json.Unmarshal(text, &back))
		assert.True(t, def == back, "%s", text)
		checked, err := back.Checked()
		require.NoError(t, err)
		assert.Equal(t, def, checked)
	}
	for _, wrong := range []func(*Definition){
		func(d *Definition) { d.Path = "stony-beck//power" }, func(d *Definition) { d.Kind = "some" }, func(d *Definition) { d.FreshFor = 0 }, func(d *Definition) { d.Every = -1 },
		func(d *Definition) { d.Labels = "depth" }, func(d *Definition) { d.States = "on" }, func(d *Definition) { d.Normal = "3" }, func(d *Definition) { d.Wrap = -1 },
	} {
		def := full
		wrong(&def)
		_, err := def.Checked()
		assert.Error(t, err, "%+v", def)
	}
}

func TestTiersCountFrom1970AlsoBeforeIt(t *testing.T) {
	assert.Equal(t, 60*int64(time.Second), Minute.Start(119e9))
	assert.Equal(t, -60*int64(time.Second), Minute.Start(-1))
	assert.Equal(t, -60*int64(time.Second), Minute.Start(-60e9))
	assert.Equal(t, "10s", TenSecond.String())
	assert.Equal(t, "readings", Readings.String())
}

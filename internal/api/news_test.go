package api

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
)

func TestNewsAreEncodedOnceAndToldToEachWhatItMaySee(t *testing.T) {
	now := time.Date(2026, 5, 13, 12, 0, 0, 0, time.UTC)
	var changed []engine.Changed
	for i, path := range []series.Path{"long-mere/mast/wind", "stony-beck/pump/power", "stony-beck/raceway-1/oxygen"} {
		changed = append(changed, engine.Changed{Series: engine.Series{
			Definition: series.Definition{Path: path, Kind: series.Gauge, Unit: "Cel", FreshFor: time.Minute},
			LastTime:   now.UnixNano() - int64(i), LastValue: float64(i) + 0.5,
		}})
	}
	changed = append(changed,
		engine.Changed{Series: engine.Series{Definition: series.Definition{Path: "stony-beck/new/one"}}})
	one := &news{at: now, changed: changed}
	said := func(event []byte) (out client.Now) {
		data, ok := strings.CutPrefix(string(event), "event:now\ndata:")
		require.True(t, ok, "%s", event)
		require.True(t, strings.HasSuffix(data, "\n\n"))
		require.NoError(t, json.Unmarshal([]byte(data), &out))
		return out
	}
	var found []engine.Series
	for _, c := range changed {
		found = append(found, c.Series)
	}
	all, err := one.event(nil, false, true, nil)
	require.NoError(t, err)
	assert.Equal(t, latest(found, now), said(all))
	again, err := one.event(nil, false, true, nil)
	require.NoError(t, err)
	assert.Same(t, &all[0], &again[0], "all streams share the bytes")

	beck := func(path series.Path) bool { return strings.HasPrefix(string(path), "stony-beck/") }
	part, err := one.event(nil, true, false, beck)
	require.NoError(t, err)
	var brief client.Brief
	require.NoError(t, json.Unmarshal(bytes.TrimPrefix(part, []byte("event:now\ndata:")), &brief))
	assert.Equal(t, briefly(found[1:], now), brief)
	none, err := one.event(make([]byte, 0, 10), true, false, func(series.Path) bool { return false })
	require.NoError(t, err)
	assert.Empty(t, none)

	var to bytes.Buffer
	_, err = tellNews(&to, nil, []*news{one, one}, true, false, beck)
	require.NoError(t, err)
	assert.Equal(t, strings.Repeat(string(part), 2), to.String())
	to.Reset()
	_, err = tellNews(&to, nil, nil, true, true, beck)
	require.NoError(t, err)
	assert.Equal(t, ": nothing new\n\n", to.String())
}

package source

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
)

const mappings = `data: d
gateway:
  site: long-mere
  sources:
    - name: lake
      mqtt_listener:
        address: 127.0.0.1:0
        messages:
          - topic: "buoy/{buoy}/state"
            payload: json
            time: /at
            values:
              - { at: /water/t1, series: "{buoy}/water_temp_1m" }
              - { at: /battery, series: "{buoy}/battery", scale: 0.001 }
          - { topic: "{station}/{quantity}", series: "{station}/{quantity}", offset: 10 }
`

func lake(t *testing.T) *messages {
	t.Helper()
	settings, err := config.Parse("m.yaml", []byte(mappings))
	require.NoError(t, err)
	return &messages{source: "lake", forms: settings.Gateway.Sources[0].Listener.Messages}
}

func TestOneMessageBecomesManyReadings(t *testing.T) {
	m := lake(t)
	readings, rejects := m.decode("buoy/buoy-1/state", []byte(`{"at":"2026-03-01T08:00:00.5Z","water":{"t1":12.5},"battery":12650}`), 7)
	assert.Empty(t, rejects)
	require.Len(t, readings, 2)
	at := time.Date(2026, 3, 1, 8, 0, 0, 500_000_000, time.UTC).UnixNano()
	assert.Equal(t, [3]any{"long-mere/buoy-1/water_temp_1m", at, 12.5}, [3]any{string(readings[0].Path), readings[0].Time, readings[0].Value})
	assert.Equal(t, [3]any{"long-mere/buoy-1/battery", at, 12.65}, [3]any{string(readings[1].Path), readings[1].Time, readings[1].Value})
}

func TestOneBadValueDoesNotSpoilItsMessage(t *testing.T) {
	readings, rejects := lake(t).decode("buoy/buoy-1/state", []byte(`{"at":"2026-03-01T08:00:00Z","water":{"t1":null},"battery":12650}`), 7)
	require.Len(t, readings, 1)
	require.Len(t, rejects, 1)
	assert.Equal(t, "long-mere/buoy-1/water_temp_1m: payload has null at /water/t1 where a number should be", rejects[0].Reason)
	assert.EqualValues(t, 7, rejects[0].Time)
}

func TestANumberIsStampedWithItsArrival(t *testing.T) {
	readings, _ := lake(t).decode("mast/wind_speed", []byte("5.5"), 7)
	require.Len(t, readings, 1)
	assert.Equal(t, [3]any{"long-mere/mast/wind_speed", int64(7), 15.5}, [3]any{string(readings[0].Path), readings[0].Time, readings[0].Value})
}

func TestTheFirstPatternThatMatchesCounts(t *testing.T) {
	m := lake(t)
	assert.Same(t, &m.forms[0], m.route("buoy/b/state").form)
	assert.Same(t, &m.forms[1], m.route("mast/wind").form)
	assert.Same(t, m.route("mast/wind"), m.route("mast/wind"), "resolved once")
	assert.Nil(t, m.route("a/b/c/d").form)
	assert.Contains(t, m.route("mast/wind speed").reason, `holds ' '`)
}

func TestEverNewTopicsAreNotAllRemembered(t *testing.T) {
	m := lake(t)
	m.known.Store(maxRoutes)
	m.route("mast/new")
	_, remembered := m.routes.Load("mast/new")
	assert.False(t, remembered)
	readings, _ := m.decode("mast/new", []byte("1"), 7)
	assert.Len(t, readings, 1, "they work all the same")
}

func TestAMessageOnItsWayIsNotTakenTwice(t *testing.T) {
	var d doubles
	first := d.begin("buoy-1", 5)
	assert.NotNil(t, first)
	assert.Nil(t, d.begin("buoy-1", 5))
	assert.NotNil(t, d.begin("buoy-2", 5))
	d.forget("buoy-1") // a new session
	again := d.begin("buoy-1", 5)
	assert.NotNil(t, again, "the identifier means another message now")
	assert.False(t, d.end(first), "whose commit must not acknowledge it")
	assert.True(t, d.end(again))
	assert.NotNil(t, d.begin("buoy-1", 5))
}

func TestFaultsAreCountedByPlace(t *testing.T) {
	var c counter
	for i := range 3 {
		c.failed("unit 2, input 0", fmt.Sprintf("timeout %d", i))
	}
	c.failed("unit 3, coil 1", "refused")
	tally := c.Tally()
	require.Len(t, tally.Faults, 2)
	assert.Equal(t, [3]any{"unit 2, input 0", "timeout 2", uint64(3)}, [3]any{tally.Faults[0].Place, tally.Faults[0].Text, tally.Faults[0].Count})
	assert.Equal(t, "unit 3, coil 1: refused", tally.LastError)
	assert.EqualValues(t, 4, tally.Errors)
	c.change(func(t *Tally) { t.Faults[0].LastAt = time.Now().Add(-2 * faultsStand) })
	assert.Len(t, c.Tally().Faults, 1, "what has not happened for long is no longer shown")
	for i := range 2 * mostFaults {
		c.failed(fmt.Sprint(i), "x")
	}
	assert.Len(t, c.Tally().Faults, mostFaults)
}

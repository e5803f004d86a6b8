package fieldwork_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/config"
	"nexocumula/internal/fieldwork"
	"nexocumula/internal/kinds"
)

const planned = `data: ./data
gateway:
  site: stony-beck
  series:
    - { select: +/+/oxygen, unit: mg/l, screens: [{ stuck_for: 1h, then: uncertain }] }
  sources:
    - name: probes
      modbus:
        address: rtu+tcp://127.0.0.1:5021
        baud: 9600
        every: 5s
        groups: [{ name: slow, every: 2m }, { name: never, every: on_demand }]
        registers:
          - { unit: 1, table: input, address: 0, series: raceway-1/oxygen }
          - { unit: 1, table: input, address: 1, series: raceway-1/water_temp }
          - { unit: 2, table: input, address: 0, series: raceway-2/oxygen }
          - { unit: 2, table: holding, address: 7, series: raceway-2/hours, group: slow }
          - { unit: 2, table: holding, address: 9, series: raceway-2/serial, group: never }
    - name: own
      mqtt_listener: { address: "127.0.0.1:0", messages: [{ topic: "feed/{silo}", series: "{silo}/feed" }] }
  uplinks: [{ name: head-office, address: "http://127.0.0.1:1", secret_env: TROUT }]
`

func TestAPlanCountsWhatSchedulesAskFor(t *testing.T) {
	t.Setenv("TROUT", "secret")
	settings, err := config.Parse("f.yaml", []byte(planned), kinds.All)
	require.NoError(t, err)
	plan, err := fieldwork.MakePlan(settings, nil, nil, 32e9)
	require.NoError(t, err)
	require.Len(t, plan.Lines, 1)
	assert.EqualValues(t, 720+720+30, plan.Lines[0].Requests, "two registers of unit 1 in one request")
	// A question of 8 bytes, an answer of 5 and two for each register, 7 of silence, of 11 bits
	// each at 9600 a second, and 5 ms to think.
	seconds := func(registers float64) float64 { return (8+5+7+2*registers)*11/9600 + 0.005 }
	assert.InDelta(t, (720*seconds(2)+720*seconds(1)+30*seconds(1))/3600, plan.Lines[0].Busy, 1e-9)
	assert.Equal(t, 6, plan.Series, "four, and the quality of two")
	assert.EqualValues(t, 5*17280+720, plan.Readings)
	assert.Equal(t, []client.PlannedTier{{Tier: "10s", Rows: 5*8640 + 720}, {Tier: "1m", Rows: 5*1440 + 720}},
		plan.Summaries)
	assert.InDelta(t, 720+30*0.8+360, plan.Commits, 1e-9)
	assert.Greater(t, plan.Disk, 100e3)
	assert.InDelta(t, 32e9/plan.Disk, plan.Outage, 1e-6)
	require.Len(t, plan.Unknown, 2)
	assert.Contains(t, plan.Unknown[0], "source own")

	heard := []client.Series{
		{Path: "stony-beck/silo-1/feed", Every: "1m"},
		{Path: "stony-beck/raceway-1/oxygen", Every: "5s"},
		{Path: "stony-beck/raceway-1/oxygen/quality", Every: "5s"}, {Path: "long-mere/x/y", Every: "1s"},
		{Path: "stony-beck/a/b"},
	}
	more, err := fieldwork.MakePlan(settings, heard, nil, 0)
	require.NoError(t, err)
	assert.Equal(t, 7, more.Series, "what was planned counts once")
	assert.EqualValues(t, plan.Readings+1440, more.Readings)
	assert.Equal(t, "1 series that were not heard often enough yet to tell how often they come", more.Unknown[1])

	now := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	since := now.Add(-10 * time.Minute)
	counted := fieldwork.HowOften([]client.Series{
		{Path: "a/b/c", Every: "20s"}, {Path: "a/b/d", FirstSeen: &since}, {Path: "a/b/e", Every: "1m"},
	}, map[string]float64{"a/b/c": 720, "a/b/d": 600, "a/b/e": 2}, now)
	assert.Equal(t, []string{"5s", "1s", "1m"}, []string{counted[0].Every, counted[1].Every, counted[2].Every})
	_, err = fieldwork.MakePlan(config.Settings{}, nil, nil, 0)
	assert.ErrorContains(t, err, "describes no gateway")
}

// A central grows by the summaries of all its gateways, and by no readings.
func TestAPlanOfACentralIsThatOfItsGateways(t *testing.T) {
	t.Setenv("TROUT", "secret")
	settings, err := config.Parse("f.yaml", []byte(planned), kinds.All)
	require.NoError(t, err)
	alone, err := fieldwork.MakePlan(settings, nil, nil, 0)
	require.NoError(t, err)
	both, err := fieldwork.MakeCentralPlan([]config.Settings{settings, settings}, 1e9)
	require.NoError(t, err)
	assert.Equal(t, 2*alone.Series, both.Series)
	assert.InDelta(t, 2*alone.Uplinks[0].Bytes, both.Uplinks[0].Bytes+both.Uplinks[1].Bytes, 1)
	assert.Less(t, both.Disk, 2*alone.Disk)
	assert.Positive(t, both.Disk)
	assert.Zero(t, both.Readings)
	for i, tier := range alone.Summaries {
		assert.InDelta(t, 2*tier.Rows, both.Summaries[i].Rows, 1)
	}
	assert.InDelta(t, 1e9/both.Disk, both.Outage, 1e-6)
	assert.Greater(t, both.Memory, 45e6)
	_, err = fieldwork.MakeCentralPlan([]config.Settings{{}}, 0)
	assert.ErrorContains(t, err, "describes no gateway")
}

// An uplink that sends fewer series or tiers, or more of them at once, takes less. The plan compares it with what it may use.
func TestAPlanOfAnUplinkIsOfWhatItSends(t *testing.T) {
	t.Setenv("TROUT", "secret")
	plan := func(more string) client.PlannedUse {
		text := strings.Replace(planned, "secret_env: TROUT }", "secret_env: TROUT"+more+" }", 1)
		settings, err := config.Parse("f.yaml", []byte(text), kinds.All)
		require.NoError(t, err)
		out, err := fieldwork.MakePlan(settings, nil, nil, 0)
		require.NoError(t, err)
		require.Len(t, out.Uplinks, 1)
		assert.Equal(t, "head-office", out.Uplinks[0].Name)
		return out.Uplinks[0]
	}
	all := plan("")
	assert.Zero(t, all.Share)
	for _, less := range []string{", tiers: [1m]", `, select: ["+/raceway-1/#"]`, ", limits: { every: 1m }"} {
		assert.Less(t, plan(less).Bytes, all.Bytes, less)
	}
	assert.InEpsilon(t, all.Bytes/5e6, plan(", limits: { per_day: 5MB }").Share, 1e-9)
	assert.InEpsilon(t, 30*all.Bytes/100e6, plan(", limits: { per_month: 100MB }").Share, 1e-9)
}

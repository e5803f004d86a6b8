package uplink

import (
	"io"
	"net"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
)

// What crosses is counted by the day and the month, over restarts, and goes no faster than the rate.
func TestAMeterCountsAndSlowsDown(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		zone := time.FixedZone("east", 2*60*60)
		now := func() time.Time { return time.Now().In(zone) }
		m, err := newMeter(config.Limits{Rate: 1000, PerDay: 30_000, PerMonth: 50_000}, nil, now)
		require.NoError(t, err)
		here, there := net.Pipe()
		defer here.Close()
		defer there.Close()
		go func() { _, _ = io.Copy(io.Discard, there) }()
		conn := m.Conn(here)
		begun := time.Now()
		n, err := conn.Write(make([]byte, 24_096))
		require.NoError(t, err)
		assert.Equal(t, 24_096, n)
		assert.InDelta(t, 20, time.Since(begun).Seconds(), 0.5, "4,096 go at once")
		left, limited := m.Left()
		assert.True(t, limited)
		assert.EqualValues(t, 5904, left)

		m, err = newMeter(config.Limits{PerDay: 30_000, PerMonth: 50_000}, m.Text(), now)
		require.NoError(t, err)
		assert.EqualValues(t, 24_096, m.Used().Today)
		time.Sleep(23 * time.Hour) // a day begins at 22:00 UTC there
		assert.Zero(t, m.Used().Today)
		assert.EqualValues(t, 24_096, m.Used().InMonth)
		_, err = m.Conn(here).Write(make([]byte, 20_000))
		require.NoError(t, err)
		left, _ = m.Left()
		assert.EqualValues(t, 5904, left, "of the month")
		time.Sleep(31 * 24 * time.Hour)
		left, _ = m.Left()
		assert.EqualValues(t, 30_000, left)
		m, err = newMeter(config.Limits{}, nil, now)
		require.NoError(t, err)
		_, limited = m.Left()
		assert.False(t, limited)
	})
}

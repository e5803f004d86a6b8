package sim

import (
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// week calls visit with every minute of a week.
func week(visit func(t time.Time)) {
	begin := time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC)
	for m := range 7 * 24 * 60 {
		visit(begin.Add(time.Duration(m) * time.Minute))
	}
}

func TestTheSameSeedMakesTheSameWorld(t *testing.T) {
	a, b, other := Field{Seed: 1}, Field{Seed: 1}, Field{Seed: 2}
	differs := false
	week(func(at time.Time) {
		require.Equal(t, a.Oxygen(at, 2), b.Oxygen(at, 2))
		differs = differs || a.Oxygen(at, 2) != other.Oxygen(at, 2)
	})
	assert.True(t, differs)
}

func TestTheWorldLooksLikeWaterFishAndWeather(t *testing.T) {
	f := Field{Seed: 1}
	low, before, restarts, throughNorth := 99.0, 0.0, 0, 0
	var wind float64
	week(func(at time.Time) {
		assert.InDelta(t, 11, f.Stream(at), 5)
		low = min(low, f.Oxygen(at, 3))
		assert.Greater(t, f.Oxygen(at, 0), 6.5, "aerated raceways stay well")
		energy := f.PumpEnergy(at, 0)
		if energy < before {
			restarts++
			assert.Less(t, energy, 5.0, "a restarted panel counts from zero")
		}
		before = energy
		d := f.WindDirection(at)
		assert.True(t, d >= 0 && d < 360)
		if d-wind > 180 || wind-d > 180 {
			throughNorth++
		}
		wind = d
		assert.GreaterOrEqual(t, f.WindSpeed(at), 0.0)
		assert.InDelta(t, 1091, f.Silo(at), 812)
	})
	assert.Less(t, low, 6.5, "oxygen falls while the aerator is tripped")
	assert.Greater(t, low, 3.0)
	assert.InDelta(t, 2.5, float64(restarts), 1)
	assert.Greater(t, throughNorth, 10)
}

func TestEnergyIsPowerOverTime(t *testing.T) {
	f := Field{Seed: 1}
	begin := time.Unix(0, int64(panelUptime)*5000)
	assert.Zero(t, f.PumpEnergy(begin, 1))
	// 30 turns of 40 minutes, in each 27 minutes at 4.3 kW.
	assert.InDelta(t, 30*27.0/60*4.3, f.PumpEnergy(begin.Add(20*time.Hour), 1), 0.2)
}

func TestALinkThatIsCutPassesNothing(t *testing.T) {
	echo, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer echo.Close()
	go func() {
		for {
			c, err := echo.Accept()
			if err != nil {
				return
			}
			go func() { _, _ = io.Copy(c, c); c.Close() }()
		}
	}()
	link, err := StartLink(echo.Addr().String())
	require.NoError(t, err)
	defer link.Close()
	say := func() error {
		c, err := net.Dial("tcp", link.Address)
		require.NoError(t, err)
		defer c.Close()
		require.NoError(t, c.SetDeadline(time.Now().Add(time.Minute)))
		if _, err := c.Write([]byte("hello")); err != nil {
			return err
		}
		_, err = io.ReadFull(c, make([]byte, 5))
		return err
	}
	assert.NoError(t, say())
	link.Cut(true)
	assert.Error(t, say())
	assert.True(t, link.IsCut())
	link.Cut(false)
	assert.NoError(t, say())
}

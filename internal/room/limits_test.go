package room

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"nexocumula/internal/config"
	"nexocumula/internal/store/engine"
)

const mb = 1_000_000

func TestRoomIsMadeBeforeALimitIsPassed(t *testing.T) {
	for _, c := range []struct {
		name          string
		limits        config.Room
		used          engine.Used
		all, readings uint64
		passed        string
	}{
		{"no limits", config.Room{}, engine.Used{Store: 1 << 50}, 0, 0, ""},
		{"well within", config.Room{Store: 100 * mb, Reserve: new(uint64(10 * mb))}, engine.Used{Store: 50 * mb, Free: 50 * mb, Disk: 5000 * mb}, 0, 0, ""},
		{"within the margin", config.Room{Store: 100 * mb}, engine.Used{Store: 99 * mb, Free: mb}, mb, 0, ""},
		{"too large", config.Room{Store: 100 * mb}, engine.Used{Store: 103 * mb}, 5 * mb, 0, "the store has 103 MB, and room allows 100 MB"},
		{"too many readings", config.Room{Readings: 50 * mb}, engine.Used{Readings: 60 * mb}, 0, 11 * mb, "the readings have about 60 MB, and room allows 50 MB"},
		{"near the reserve", config.Room{Reserve: new(uint64(100 * mb))}, engine.Used{Free: 101 * mb, Disk: 5000 * mb}, mb, 0, ""},
		{"in the reserve", config.Room{Reserve: new(uint64(100 * mb))}, engine.Used{Free: 40 * mb, Disk: 5000 * mb}, 62 * mb, 0, "the disk has 40 MB left, and room keeps 100 MB of it free"},
		{"the usual reserve", config.Room{}, engine.Used{Free: 40 * mb, Disk: 5000 * mb}, 62 * mb, 0, "the disk has 40 MB left, and room keeps 100 MB of it free"},
		{"the usual reserve of a small disk", config.Room{}, engine.Used{Free: 40 * mb, Disk: 200 * mb}, 0, 0, ""},
		{"a disk of which nothing is known", config.Room{}, engine.Used{}, 0, 0, ""},
		{"both", config.Room{Store: 100 * mb, Reserve: new(uint64(100 * mb))}, engine.Used{Store: 103 * mb, Free: 40 * mb, Disk: 5000 * mb}, 62 * mb, 0, "the store has 103 MB, and room allows 100 MB"},
	} {
		all, readings, passed := excess(c.limits, c.used)
		assert.Equal(t, c.all, all, c.name)
		assert.Equal(t, c.readings, readings, c.name)
		assert.Equal(t, c.passed, passed, c.name)
	}
}

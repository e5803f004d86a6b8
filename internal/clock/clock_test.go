package clock

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWhenAClockIsBelieved(t *testing.T) {
	newest := time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)
	now := newest
	for _, test := range []struct {
		now           time.Time
		unset, doubts string
	}{
		{newest, "", ""},
		{newest.Add(300 * 24 * time.Hour), "", ""},
		{newest.Add(-time.Minute), "", ""}, // corrected a little
		{newest.Add(-3 * time.Hour), "", "before the newest time on disk"},
		{time.Unix(5, 0), "so it is not set", "so it is not set"},
		{time.Date(2106, 2, 7, 0, 0, 0, 0, time.UTC), "readings wait until it is set right", "away_for"},
	} {
		now = test.now
		j := NewJudge(func() time.Time { return now }, newest, DefaultAway)
		for _, both := range [][2]string{{test.unset, j.Unset()}, {test.doubts, j.Doubt()}} {
			if both[0] == "" {
				assert.Empty(t, both[1], test.now)
			} else {
				assert.Contains(t, both[1], both[0], test.now)
			}
		}
		j.Wrote()
		assert.Equal(t, test.unset == "" && test.now.After(newest), j.Newest().After(newest),
			"only what can be believed is remembered")
	}
	empty := NewJudge(func() time.Time { return now }, time.Time{}, DefaultAway)
	assert.Empty(t, empty.Doubt(), "of an empty store nothing is known")
}

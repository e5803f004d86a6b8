package source

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestASourceThatWentSilentIsNoticed(t *testing.T) {
	now := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	var r rhythm
	for i := range 60 {
		assert.False(t, r.broken(now.Add(time.Hour)) && i < enoughBeats, "nothing is known yet")
		now = now.Add(time.Duration(20+10*(i%3)) * time.Second) // 40 s apart at most
		r.beat(now)
	}
	assert.False(t, r.broken(now.Add(2*time.Minute)))
	assert.True(t, r.broken(now.Add(121*time.Second)))
	quick := rhythm{}
	for range 100 {
		now = now.Add(time.Second)
		quick.beat(now)
	}
	assert.False(t, quick.broken(now.Add(59*time.Second)), "a minute is no silence")
	assert.True(t, quick.broken(now.Add(61*time.Second)))
	quick.beat(now.Add(2 * time.Hour)) // a silence that ended is usual for a while
	assert.False(t, quick.broken(now.Add(4*time.Hour)))
}

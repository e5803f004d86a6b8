package screen

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWhatMustNotCountIsRefusedWithItsReason(t *testing.T) {
	low, high := 0.0, 20.0
	limits := Limits{Low: &low, High: &high, MaxAhead: 5 * time.Minute}
	now := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC).UnixNano()
	for _, test := range []struct {
		value  float64
		after  time.Duration
		reason string
	}{
		{9.5, 0, ""}, {0, 0, ""}, {20, 0, ""}, {9.5, 5 * time.Minute, ""}, {9.5, -9 * 24 * time.Hour, ""},
		{-99.9, 0, "below the range's low end 0"}, {20.1, 0, "above the range's high end 20"},
		{math.NaN(), 0, "no measurement"}, {math.Inf(1), 0, "no measurement"},
		{9.5, time.Hour, "time stamp 2026-03-01T09:00:00Z is 1h0m0s in the future"},
		{9.5, -40 * 365 * 24 * time.Hour, "before the year 2000"},
	} {
		_, got := limits.Refuse(test.value, now+int64(test.after), now)
		if test.reason == "" {
			assert.Empty(t, got)
		} else {
			assert.Contains(t, got, test.reason)
		}
	}
	rule, _ := Limits{}.Refuse(1e300, now, now)
	assert.Empty(t, rule, "without limits every finite value passes")
}

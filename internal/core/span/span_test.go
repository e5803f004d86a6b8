package span

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDurationsReadAndWriteTheSame(t *testing.T) {
	for text, d := range map[string]time.Duration{
		"250ms": 250 * time.Millisecond, "10s": 10 * time.Second, "15m": 15 * time.Minute, "90s": 90 * time.Second,
		"1h": time.Hour, "36h": 36 * time.Hour, "1d": 24 * time.Hour, "7s": 7 * time.Second, "1w": 7 * 24 * time.Hour,
	} {
		got, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, d, got)
		assert.Equal(t, text, Format(d))
	}
	assert.Equal(t, "14d", Format(14*24*time.Hour))
}

func TestWhatIsNoDurationIsRefused(t *testing.T) {
	for _, text := range []string{"", "h", "10", "-5m", "1.5h", "10 s", "10min", "0s", "zz", "1mo"} {
		_, err := Parse(text)
		assert.ErrorContains(t, err, "write a whole number", text)
	}
}

package plain

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAZoneThatIsNearlyRightIsSuggested(t *testing.T) {
	for _, name := range []string{"", "UTC", "Europe/Berlin"} {
		_, err := Zone(name)
		require.NoError(t, err, name)
	}
	for name, known := range map[string]string{
		"Berlin":   "Europe/Berlin",
		"berlin":   "Europe/Berlin",
		"new york": "America/New_York",
		"Tokyo":    "Asia/Tokyo",
	} {
		_, err := Zone(name)
		assert.ErrorContains(t, err, "did you mean "+known+"?")
	}
	for _, name := range []string{"Local", "Middle/Earth", " ", "../etc/passwd"} {
		_, err := Zone(name)
		assert.ErrorContains(t, err, "write an IANA name such as Europe/Lisbon, or UTC", name)
	}
}

package sim

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestOneBatteryIsLowAtAllHours(t *testing.T) {
	f := Field{Seed: 1}
	begin := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	for h := range 365 * 24 {
		at := begin.Add(time.Duration(h) * time.Hour)
		for buoy := range 4 {
			if v := f.Battery(at, buoy); buoy == 3 {
				require.Greater(t, v, 11.0, "%s", at)
				require.Less(t, v, 11.8, "%s", at)
			} else {
				require.Greater(t, v, 11.8, "%s, buoy %d", at, buoy)
			}
		}
	}
}

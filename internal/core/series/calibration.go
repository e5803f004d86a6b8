package series

import (
	"strings"
	"time"
)

// Calibration says to people how raw values become those of a series; "": as they come. Since when it counts may
// stand at its end.
type Calibration string

// CalibratedSince stands before that time, which is written as in RFC 3339.
const CalibratedSince = ", since "

const longestCalibration = 10_000 // bytes

// Since returns since when it counts; zero when it does not say.
func (c Calibration) Since() (t time.Time) {
	if _, stated, ok := strings.Cut(string(c), CalibratedSince); ok {
		t, _ = time.Parse(time.RFC3339, stated) // from elsewhere it can be anything
	}
	return t
}

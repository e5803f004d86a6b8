package series

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRulesOfThinningAreCheckedAndRead(t *testing.T) {
	for _, bad := range []Thinning{
		{Silence: 1}, {Method: OnChange, Within: 1, Silence: 1}, {Method: Deadband, Silence: 1}, {Method: Deadband, Within: -1, Silence: 1}, {Method: Deadband, Within: math.NaN(), Silence: 1},
		{Method: Deadband, Relative: 1, Silence: 1}, {Method: SwingingDoor, Silence: 1}, {
			Method:   SwingingDoor,
			Within:   1,
			Relative: 0.1,
			Silence:  1,
		}, {Method: SwingingDoor, Within: math.Inf(1), Silence: 1},
		{Method: OnChange}, {Method: OnChange, Silence: 25 * time.Hour},
	} {
		assert.Error(t, bad.Check(Gauge), "%v", bad)
	}
	assert.Error(t, Thinning{Method: Deadband, Within: 1, Silence: 1}.Check(State))
	assert.Error(t, Thinning{Method: SwingingDoor, Within: 1, Silence: 1}.Check(Bearing))
	for _, good := range []Thinning{
		{}, {Method: OnChange, Silence: time.Minute},
		{Method: Deadband, Within: 0.1, Relative: 0.25, Silence: 90 * time.Second},
		{Method: SwingingDoor, Within: 1e-9, Silence: time.Hour},
	} {
		read, err := ParseThinning(good.String())
		require.NoError(t, err)
		assert.Equal(t, good, read)
	}
	for _, bad := range []string{"some", "deadband within", "deadband within x", "deadband about 3"} {
		_, err := ParseThinning(bad)
		assert.Error(t, err, bad)
	}
}

package source

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFaultsAreCountedByPlace(t *testing.T) {
	var c Counter
	for i := range 3 {
		c.Failed("unit 2, input 0", fmt.Sprintf("timeout %d", i))
	}
	c.Failed("unit 3, coil 1", "refused")
	tally := c.Tally()
	require.Len(t, tally.Faults, 2)
	assert.Equal(t, [3]any{"unit 2, input 0", "timeout 2", uint64(3)},
		[3]any{tally.Faults[0].Place, tally.Faults[0].Text, tally.Faults[0].Count})
	assert.Equal(t, "unit 3, coil 1: refused", tally.LastError)
	assert.EqualValues(t, 4, tally.Errors)
	c.Change(func(t *Tally) { t.Faults[0].LastAt = time.Now().Add(-2 * faultsStand) })
	assert.Len(t, c.Tally().Faults, 1, "what has not happened for long is no longer shown")
	for i := range 2 * mostFaults {
		c.Failed(fmt.Sprint(i), "x")
	}
	assert.Len(t, c.Tally().Faults, mostFaults)
}

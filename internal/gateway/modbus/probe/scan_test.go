package probe_test

import (
	"context"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/gateway/modbus"
	"nexocumula/internal/gateway/modbus/probe"
	"nexocumula/internal/sim"
)

// panel returns a simulated device, and who asks it.
func panel(t *testing.T) *modbus.Asker {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	l.Close() // the simulator's library wants to listen itself
	device, err := sim.PumpPanel(sim.Field{Seed: 3}, address)
	require.NoError(t, err)
	asker, err := modbus.NewAsker(modbus.LineKeys{Address: device.Address}, 300*time.Millisecond)
	require.NoError(t, err)
	t.Cleanup(func() { asker.Close(); device.Close() })
	return asker
}

var gentle = probe.Gentle{Pause: time.Microsecond, Most: 2000}

func TestUnitsThatAnswerAreFound(t *testing.T) {
	found, err := probe.Units(t.Context(), panel(t), 1, 3, 0, gentle)
	require.NoError(t, err)
	require.NotEmpty(t, found)
	assert.EqualValues(t, 1, found[0].ID)
	assert.ElementsMatch(t, []string{"holding", "input", "coil", "discrete_input"}, found[0].Tables)
}

func TestRangesAreThoseThatAreGiven(t *testing.T) {
	asker := panel(t)
	for _, test := range []struct {
		table    string
		from, to int
		ranges   []probe.Range
	}{
		{"holding", 0, 100, []probe.Range{{First: 0, Count: 3}, {First: 10, Count: 4}}}, // as the panel's description has them
		{"holding", 1, 11, []probe.Range{{First: 1, Count: 2}, {First: 10, Count: 2}}},
		{"holding", 3, 9, nil},
		{"input", 0, 40, []probe.Range{{First: 0, Count: 4}}},
		{"coil", 0, 33, []probe.Range{{First: 0, Count: 2}}},
		{"holding", 65530, 65535, nil},
	} {
		found, err := probe.Ranges(t.Context(), asker, 1, test.table, test.from, test.to, gentle)
		require.NoError(t, err)
		assert.Equal(t, test.ranges, found, "%+v", test)
	}
}

func TestAScanEndsAfterSoManyRequestsAndKeepsWhatItFound(t *testing.T) {
	found, err := probe.Ranges(t.Context(), panel(t), 1, "holding", 0, 1000,
		probe.Gentle{Pause: time.Microsecond, Most: 20})
	assert.Equal(t, probe.Enough{Requests: 20}, err)
	assert.Contains(t, err.Error(), "after 20 requests")
	assert.NotEmpty(t, found)
}

func TestWhoAsksCanStop(t *testing.T) {
	ctx, stop := context.WithCancel(t.Context())
	stop()
	_, err := probe.Read(ctx, panel(t), modbus.Question{Unit: 1, Table: "input", Count: 2}, 3, time.Hour)
	assert.ErrorIs(t, err, context.Canceled)
	_, err = probe.Read(t.Context(), panel(t), modbus.Question{Unit: 1, Table: "input", First: 77, Count: 2}, 1, 0)
	assert.ErrorContains(t, err,
		`unit 1, input 77 to 78: the device answers "illegal data address"; a scan of registers shows which it gives`)
	_, err = probe.Read(t.Context(), panel(t), modbus.Question{Unit: 1, Table: "input", Count: 126}, 1, 0)
	assert.ErrorContains(t, err, "cannot be asked for at once")
}

func TestAFloatOfThePanelIsFoundAmongItsRegisters(t *testing.T) {
	samples, err := probe.Read(t.Context(), panel(t), modbus.Question{Unit: 1, Table: "input", Count: 4}, 4,
		time.Millisecond)
	require.NoError(t, err)
	require.Len(t, samples, 4)
	all := probe.Interpret(0, samples, probe.Hints{Low: -1, High: 15}, 3)
	require.Len(t, all, 4)
	for _, at := range []int{0, 2} { // the power of both pumps
		var names []string
		for _, one := range all[at][:min(2, len(all[at]))] { // a pump that rests is 0, whichever way it is read
			names = append(append(names, one.String()), one.Same...)
		}
		assert.Contains(t, names, "float32", "address %d: %v", at, all[at])
	}
}

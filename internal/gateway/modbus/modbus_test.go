package modbus

import (
	"fmt"
	"io"
	"log"
	"log/slog"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"github.com/simonvetter/modbus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/calibrate"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/source/sourcetest"
)

// awkward is a device as they are met: it gives few registers at once, closes idle
// connections, and has units that its serial line does not reach.
type awkward struct {
	most     uint16
	absent   uint8
	requests atomic.Int64
}

func (a *awkward) HandleCoils(*modbus.CoilsRequest) ([]bool, error) {
	return nil, modbus.ErrIllegalFunction
}

func (a *awkward) HandleDiscreteInputs(*modbus.DiscreteInputsRequest) ([]bool, error) {
	return nil, modbus.ErrIllegalFunction
}

func (a *awkward) HandleInputRegisters(*modbus.InputRegistersRequest) ([]uint16, error) {
	return nil, modbus.ErrIllegalFunction
}

func (a *awkward) HandleHoldingRegisters(r *modbus.HoldingRegistersRequest) ([]uint16, error) {
	a.requests.Add(1)
	if r.UnitId == a.absent {
		return nil, modbus.ErrGWTargetFailedToRespond
	}
	if r.Quantity > a.most {
		return nil, modbus.ErrIllegalDataValue
	}
	out := make([]uint16, r.Quantity)
	for i := range out {
		out[i] = r.Addr + uint16(i)
	}
	return out, nil
}

func (a *awkward) start(t *testing.T, idle time.Duration) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := "tcp://" + l.Addr().String()
	l.Close()
	server, err := modbus.NewServer(&modbus.ServerConfiguration{URL: address, Timeout: idle, MaxClients: 5, Logger: log.New(io.Discard, "", 0)}, a)
	require.NoError(t, err)
	require.NoError(t, server.Start())
	t.Cleanup(func() { assert.NoError(t, server.Stop()) })
	return address
}

func registersOf(unit uint8, n int) (out []register) {
	for i := range uint16(n) {
		r := registerAt(unit, holding, i, named("uint16"))
		r.series, r.calibrate = series.Path(fmt.Sprintf("alder-weir/unit-%d/register-%d", unit, i)), calibrate.Identity
		out = append(out, r)
	}
	return out
}

func newPoller(t *testing.T, b *sourcetest.Bench, address string, registers []register) *poller {
	m := open("panel", settings{address: address, every: time.Second, timeout: 2 * time.Second, registers: registers}, b.Pipe, slog.New(slog.DiscardHandler))
	var err error
	m.line, err = newLine(address, 2*time.Second)
	require.NoError(t, err)
	t.Cleanup(m.line.close)
	return m
}

func TestADeviceThatClosesIdleConnectionsLosesNoPoll(t *testing.T) {
	b := sourcetest.New(t)
	m := newPoller(t, b, (&awkward{most: 125}).start(t, 50*time.Millisecond), registersOf(1, 4))
	for range 4 {
		m.poll(t.Context())
		time.Sleep(150 * time.Millisecond) // longer than the device keeps a silent connection
	}
	assert.EqualValues(t, 4, m.Tally().Messages)
	assert.Zero(t, m.Tally().Errors)
	assert.True(t, m.Tally().Up)
}

func TestADeviceOfFewRegistersAtATimeIsLearned(t *testing.T) {
	b := sourcetest.New(t)
	device := &awkward{most: 20}
	m := newPoller(t, b, device.start(t, time.Minute), registersOf(1, 60))
	for range 8 {
		before := m.Tally().Readings
		m.poll(t.Context())
		assert.EqualValues(t, 60, m.Tally().Readings-before)
	}
	before := device.requests.Load()
	m.poll(t.Context())
	assert.EqualValues(t, 3, device.requests.Load()-before)
	assert.Zero(t, m.Tally().Errors)
}

func TestAUnitThatItsLineDoesNotReachIsOneWaitAndIsSaid(t *testing.T) {
	b := sourcetest.New(t)
	device := &awkward{most: 125, absent: 7}
	m := newPoller(t, b, device.start(t, time.Minute), append(registersOf(7, 40), registersOf(8, 2)...))
	m.poll(t.Context())
	assert.EqualValues(t, 2, device.requests.Load(), "one for each unit, and none for each register")
	require.Len(t, m.Tally().Absent, 1)
	assert.Contains(t, m.Tally().Absent[0], "unit 7 has not answered since")
	assert.EqualValues(t, 2, m.Tally().Readings)
	for range 10 {
		m.poll(t.Context())
	}
	assert.Less(t, device.requests.Load(), int64(2+10+5), "it is asked more rarely")
}

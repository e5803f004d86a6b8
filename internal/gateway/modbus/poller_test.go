package modbus

import (
	"context"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/simonvetter/modbus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/gateway/source/sourcetest"
	"nexocumula/internal/rounds"
)

// awkward is a device as they are met. Its holding registers hold their own address.
type awkward struct {
	mu       sync.Mutex
	most     int             // registers that it gives at once
	mute     int             // more than this many it does not answer at all
	holes    map[uint16]bool // registers that it does not have
	silent   map[uint8]bool  // units that do not answer
	absent   map[uint8]bool  // units of which a serial gateway says so
	pause    time.Duration   // that it needs between requests
	last     time.Time
	requests map[uint8]int
	words    map[uint16]uint16
}

const silentFor = 400 * time.Millisecond // longer than the tests wait

func (a *awkward) HandleCoils(*modbus.CoilsRequest) ([]bool, error) {
	return nil, modbus.ErrIllegalFunction
}

func (a *awkward) HandleDiscreteInputs(*modbus.DiscreteInputsRequest) ([]bool, error) {
	return nil, modbus.ErrIllegalFunction
}

func (a *awkward) HandleInputRegisters(*modbus.InputRegistersRequest) ([]uint16, error) {
	return nil, modbus.ErrServerDeviceBusy
}

func (a *awkward) HandleHoldingRegisters(r *modbus.HoldingRegistersRequest) ([]uint16, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.requests == nil {
		a.requests = map[uint8]int{}
	}
	a.requests[r.UnitId]++
	soon := time.Since(a.last) < a.pause
	if a.silent[r.UnitId] || a.mute > 0 && int(r.Quantity) > a.mute || soon {
		a.mu.Unlock()
		time.Sleep(silentFor)
		a.mu.Lock()
		return nil, modbus.ErrServerDeviceFailure
	}
	a.last = time.Now()
	if a.absent[r.UnitId] {
		return nil, modbus.ErrGWTargetFailedToRespond
	}
	if a.most > 0 && int(r.Quantity) > a.most {
		return nil, modbus.ErrIllegalDataValue
	}
	out := make([]uint16, r.Quantity)
	for i := range out {
		address := r.Addr + uint16(i)
		if a.holes[address] {
			return nil, modbus.ErrIllegalDataAddress
		}
		if out[i] = address; a.words != nil {
			out[i] = a.words[address]
		}
	}
	return out, nil
}

func (a *awkward) asked(unit uint8) int {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.requests[unit]
}

func (a *awkward) set(change func()) {
	a.mu.Lock()
	defer a.mu.Unlock()
	change()
}

func (a *awkward) start(t *testing.T, idle time.Duration) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := "tcp://" + l.Addr().String()
	l.Close()
	server, err := modbus.NewServer(&modbus.ServerConfiguration{
		URL:        address,
		Timeout:    idle,
		MaxClients: 5,
		Logger:     log.New(io.Discard, "", 0),
	}, a)
	require.NoError(t, err)
	require.NoError(t, server.Start())
	t.Cleanup(func() { assert.NoError(t, server.Stop()) })
	return address
}

// bench is a poller with a pipeline behind it.
type bench struct {
	*sourcetest.Bench
	*poller
	stop func()
}

func newBench(t *testing.T) *bench { return &bench{Bench: sourcetest.New(t)} }

// poll runs a poller of a configuration, in the place of the one before.
func (b *bench) poll(t *testing.T, text string, args ...any) {
	if b.stop != nil {
		b.stop()
	}
	s, err := read(t, fmt.Sprintf(text, args...))
	require.NoError(t, err)
	m := open("panel", s, b.Pipe, slog.New(slog.DiscardHandler))
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- m.Run(ctx) }()
	b.poller, b.stop = m, sync.OnceFunc(func() {
		cancel()
		assert.NoError(t, <-done)
	})
	t.Cleanup(b.stop)
}

// more waits until n more readings have come.
func (b *bench) more(n int) {
	before := b.Tally().Readings
	b.Eventually(fmt.Sprintf("%d more readings", n), func() bool { return b.Tally().Readings >= before+uint64(n) })
}

func (b *bench) value(t *testing.T, path string) (value float64) {
	b.Eventually(path+" is stored", func() bool {
		if one, found := b.Store.Find(series.Path(path)); found {
			_, v, ok, err := b.Store.LastBefore(t.Context(), one.ID, series.Readings,
				time.Now().Add(time.Hour).UnixNano())
			require.NoError(t, err)
			value = v
			return ok
		}
		return false
	})
	return value
}

func TestADeviceThatClosesIdleConnectionsLosesNothing(t *testing.T) {
	b := newBench(t)
	b.poll(t, "{ address: %q, every: 300ms, registers: [{ table: holding, address: 0, count: 4, series: 'u/r{n}' }] }",
		(&awkward{}).start(t, 50*time.Millisecond))
	b.more(16)
	assert.Zero(t, b.Tally().Errors)
	assert.True(t, b.Tally().Up)
}

func TestWhatADeviceRefusesIsLearnedAndKept(t *testing.T) {
	rounds.Alone(t)
	b := newBench(t)
	device := &awkward{most: 20, holes: map[uint16]bool{33: true, 70: true}}
	config := fmt.Sprintf(`{ address: %q, every: 100ms, registers: [{ table: holding, address: 0, count: 33, series: 'u/a{n}' },
		{ table: holding, address: 36, count: 30, series: 'u/b{n}' }, { table: holding, address: 70, series: u/missing } ] }`, device.start(t,
		time.Minute))
	b.poll(t, "%s", config)
	b.more(63 * 15)
	rate := func() float64 {
		before, done := device.asked(1), b.Tally().Readings
		b.more(63 * 10)
		return float64(device.asked(1)-before) / (float64(b.Tally().Readings-done) / 63)
	}
	assert.InDelta(t, 4, rate(), 0.5, "two for each run of registers, and none over what is refused")
	require.Len(t, b.Tally().Absent, 1)
	assert.Contains(t, b.Tally().Absent[0], "unit 1, holding 70 is not given since")
	assert.Contains(t, b.Tally().Absent[0], "illegal data address")
	b.stop()
	before := device.asked(1)
	b.poll(t, "%s", config)
	b.more(63 * 2)
	assert.LessOrEqual(t, device.asked(1)-before, 4*4, "it need not be learned again")
	assert.Contains(t, b.Tally().Line.Learned, "unit 1, holding: gives 20 at once, and not 21")
}

func TestSilentUnitsAreNamedAndDelayNobodyForLong(t *testing.T) {
	rounds.Alone(t)
	b := newBench(t)
	device := &awkward{silent: map[uint8]bool{2: true, 3: true}, absent: map[uint8]bool{4: true}}
	b.poll(t, `{ address: %q, every: 100ms, timeout: 300ms, silent_share: 0.2, registers: [
		{ unit: 1, table: holding, address: 0, series: u1/a }, { unit: 2, table: holding, address: 0, series: u2/a },
		{ unit: 3, table: holding, address: 0, series: u3/a }, { unit: 4, table: holding, address: 0, series: u4/a } ] }`, device.start(t,
		time.Minute))
	b.Eventually("all three are missed", func() bool { return len(b.Tally().Absent) == 3 })
	assert.Contains(t, b.Tally().Absent[0], "unit 2 has not answered since")
	b.more(40)
	tally := b.Tally()
	assert.True(t, tally.Up)
	assert.NotZero(t, tally.Line.Timeouts)
	assert.NotZero(t, tally.Line.Exceptions[modbus.ErrGWTargetFailedToRespond.Error()])
	assert.Less(t, device.asked(2)+device.asked(3), device.asked(1), "they are asked more rarely")
	device.set(func() { device.silent, device.absent = nil, nil })
	b.Eventually("they come back", func() bool { return len(b.Tally().Absent) == 0 })
	assert.EqualValues(t, 0, b.value(t, "site/u3/a"))
}

func TestADeviceThatDoesNotAnswerLongReadsGetsShorterOnes(t *testing.T) {
	rounds.Alone(t)
	b := newBench(t)
	device := &awkward{mute: 10}
	b.poll(t,
		"{ address: %q, every: 100ms, timeout: 200ms, registers: [{ table: holding, address: 0, count: 20, series: 'u/r{n}' }] }",
		device.start(t, time.Minute))
	b.more(20 * 10)
	before := b.Tally().Line.Timeouts
	b.more(20 * 10)
	assert.LessOrEqual(t, b.Tally().Line.Timeouts-before, uint64(2))
	assert.Empty(t, b.Tally().Absent)
}

func TestADeviceThatNeedsPausesGetsThem(t *testing.T) {
	b := newBench(t)
	device := &awkward{pause: 15 * time.Millisecond}
	b.poll(t, `{ address: %q, every: 100ms, timeout: 200ms, holes: never, registers: [{ table: holding, address: 0, series: u/a },
		{ table: holding, address: 5, series: u/b }, { table: holding, address: 9, series: u/c }] }`, device.start(t,
		time.Minute))
	b.Eventually("it is learned", func() bool { return len(b.Tally().Line.Learned) > 0 })
	assert.Contains(t, b.Tally().Line.Learned[0], "the line needs ")
	before := b.Tally().Line.Timeouts
	b.more(30)
	assert.LessOrEqual(t, b.Tally().Line.Timeouts-before, uint64(2))
}

func TestTextsScalesAndArrays(t *testing.T) {
	b := newBench(t)
	device := &awkward{words: map[uint16]uint16{
		0:  1234,
		1:  0xfffe,
		2:  500,
		40: 0xffff,
		50: 3,
		10: 'O'<<8 | 'P',
		11: 'E'<<8 | 'N',
		20: 7,
		23: 8,
		26: 9,
		60: 0x0102,
		70: 0x8000,
	}}
	b.poll(t, `{ address: %q, every: 100ms, holes: never, registers: [
		{ table: holding, address: 0, series: u/power, scale_register: 1 }, { table: holding, address: 2, series: u/far, scale_register: 40, scale: 2 },
		{ table: holding, address: 0, series: u/none, scale_register: 70 }, { table: holding, address: 2, series: u/times, factor_register: 50 }, { table: holding, address: 20, count: 3, step: 3, number_from: 0, series: 'cage-{n}/depth' },
		{ table: holding, address: 10, type: text, length: 4, series: u/valve }, { table: holding, address: 60, type: text, length: 1, series: u/garbage } ] }`, device.start(t,
		time.Minute))
	assert.Equal(t, 12.34, b.value(t, "site/u/power"))
	assert.Equal(t, 100.0, b.value(t, "site/u/far"))
	assert.Equal(t, 1500.0, b.value(t, "site/u/times"))
	assert.Equal(t, 9.0, b.value(t, "site/cage-2/depth"))
	reasons := ""
	b.Eventually("texts are refused where they are none", func() bool {
		reasons = ""
		for _, r := range b.Rejects() {
			reasons += r.Reason + "\n"
		}
		return len(b.Rejects()) >= 2
	})
	_, found := b.Store.Find("site/u/none")
	assert.False(t, found, "its scale says that there is no value")
	assert.NotContains(t, reasons, "site/u/none")
	assert.Contains(t, reasons, "site/u/valve", "it is not a series with names of states")
	assert.Contains(t, reasons, `site/u/garbage: "\x01\x02" is no text of printable letters`)
}

func TestReadingsOfAScheduleMayHaveItsTime(t *testing.T) {
	b := newBench(t)
	b.poll(t,
		`{ address: %q, groups: [{ name: fast, every: 200ms, phase: 50ms, time: schedule }], registers: [{ table: holding, address: 7, group: fast, series: u/a }] }`,
		(&awkward{}).start(t, time.Minute))
	b.more(5)
	b.value(t, "site/u/a")
	one, _ := b.Store.Find("site/u/a")
	block, err := b.Store.Read(t.Context(), one.ID, series.Readings, 0, time.Now().Add(time.Hour).UnixNano())
	require.NoError(t, err)
	for i, at := range block.Times {
		assert.EqualValues(t, 50*time.Millisecond, time.Duration(at)%(200*time.Millisecond), i)
	}
}

func TestAGroupIsReadWhenSomebodyAsks(t *testing.T) {
	b := newBench(t)
	device := &awkward{holes: map[uint16]bool{9: true}}
	b.poll(t,
		`{ address: %q, groups: [{ name: meters, every: on_demand }], registers: [{ table: holding, address: 7, group: meters, series: u/a }, { table: holding, address: 9, group: meters, series: u/b }] }`,
		device.start(t, time.Minute))
	time.Sleep(50 * time.Millisecond)
	assert.Zero(t, device.asked(1), "it has no schedule")
	got, err := b.Read(t.Context(), "meters")
	require.NoError(t, err)
	assert.Equal(t, source.Outcome{
		Readings: 1, Failed: []string{`unit 1, holding 9: the device answers "illegal data address"`},
	}, got)
	_, err = b.Read(t.Context(), "pumps")
	assert.EqualError(t, err, `source panel has no group "pumps"; it has every, meters`)
}

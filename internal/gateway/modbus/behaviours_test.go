package modbus

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nexocumula/internal/core/series"
)

// wire is how a device is connected.
type wire string

const (
	overTCP    wire = "tcp"
	rtuOverTCP wire = "rtu+tcp"
	overSerial wire = "rtu"
)

// reply says how a device treats a request; the zero value answers it.
type reply struct {
	silent    bool
	exception byte
	registers int           // fewer than asked for; 0: as many
	after     time.Duration // that it thinks
	closes    bool          // the connection, behind the answer or instead of it
	twice     bool
	pieces    bool
	foreign   bool   // an answer to somebody else's request comes first
	spoiled   bool   // its check is wrong
	cut       bool   // half of it comes
	noise     []byte // before it
}

// behaviour is a way to misbehave.
type behaviour struct {
	name  string
	least float64 // requests for each point of the schedule
	wires []wire
	never map[int]bool // registers that it does not give
	pause time.Duration
	does  func(n, first, count int) reply // n: of requests, from 1
}

var anyWire = []wire{overTCP, rtuOverTCP, overSerial}

// over reports whether a read reaches one of the registers.
func over(never map[int]bool, first, count int) bool {
	for i := range count {
		if never[first+i] {
			return true
		}
	}
	return false
}

func holes(all ...int) map[int]bool {
	out := map[int]bool{}
	for _, one := range all {
		out[one] = true
	}
	return out
}

func each(n, of int, then reply) reply {
	if n%of == 0 {
		return then
	}
	return reply{}
}

// behaviours are of a device that holds 40 registers, each of which holds its address.
func behaviours() []behaviour {
	mute := func(never map[int]bool) func(n, first, count int) reply {
		return func(_, first, count int) reply { return reply{silent: over(never, first, count)} }
	}
	refuses := func(never map[int]bool) func(n, first, count int) reply {
		return func(_, first, count int) reply {
			if over(never, first, count) {
				return reply{exception: 2}
			}
			return reply{}
		}
	}
	return []behaviour{
		{name: "is well", least: 1, wires: anyWire, does: func(_, _, _ int) reply { return reply{} }},
		{
			name:  "cuts answers at 20",
			least: 2,
			wires: anyWire,
			does:  func(_, _, count int) reply { return reply{registers: min(count, 20)} },
		},
		{name: "refuses more than 8", least: 5, wires: anyWire, does: func(_, _, count int) reply {
			if count > 8 {
				return reply{exception: 3}
			}
			return reply{}
		}},
		{name: "refuses one", least: 2, wires: anyWire, never: holes(17), does: refuses(holes(17))},
		{name: "refuses three", least: 3, wires: anyWire, never: holes(5, 6, 30), does: refuses(holes(5, 6, 30))},
		{name: "is silent over the first", least: 1, wires: anyWire, never: holes(0), does: mute(holes(0))},
		{name: "is silent over one", least: 2, wires: anyWire, never: holes(17), does: mute(holes(17))},
		{name: "is silent over the last", least: 1, wires: anyWire, never: holes(39), does: mute(holes(39))},
		{name: "is silent over two", least: 3, wires: anyWire, never: holes(5, 30), does: mute(holes(5, 30))},
		{
			name:  "thinks for long",
			least: 1,
			wires: anyWire,
			does:  func(_, _, _ int) reply { return reply{after: 50 * time.Millisecond} },
		},
		{
			name:  "needs pauses",
			least: 2,
			wires: anyWire,
			never: holes(17),
			pause: 20 * time.Millisecond,
			does:  refuses(holes(17)),
		},
		{
			name:  "answers somebody else first",
			least: 1,
			wires: []wire{overTCP},
			does:  func(n, _, _ int) reply { return each(n, 2, reply{foreign: true}) },
		},
		{
			name:  "answers for another unit at times",
			least: 1.34,
			wires: []wire{rtuOverTCP, overSerial},
			does:  func(n, _, _ int) reply { return each(n, 4, reply{foreign: true}) },
		},
		{
			name:  "answers twice",
			least: 1,
			wires: []wire{overTCP},
			does:  func(_, _, _ int) reply { return reply{twice: true} },
		},
		{name: "sends pieces", least: 1, wires: anyWire, does: func(_, _, _ int) reply { return reply{pieces: true} }},
		{
			name:  "is busy at times",
			least: 1.5,
			wires: anyWire,
			does:  func(n, _, _ int) reply { return each(n, 3, reply{exception: 6}) },
		},
		{
			name:  "fails at times",
			least: 1.5,
			wires: anyWire,
			does:  func(n, _, _ int) reply { return each(n, 3, reply{exception: 4}) },
		},
		{
			name:  "loses requests",
			least: 1.34,
			wires: anyWire,
			does:  func(n, _, _ int) reply { return each(n, 4, reply{silent: true}) },
		},
		{
			name:  "spoils answers",
			least: 1.34,
			wires: anyWire,
			does:  func(n, _, _ int) reply { return each(n, 4, reply{spoiled: true}) },
		},
		{
			name:  "sends half an answer",
			least: 1.25,
			wires: anyWire,
			does:  func(n, _, _ int) reply { return each(n, 5, reply{cut: true}) },
		},
		{
			name:  "is silent for a while",
			least: 1,
			wires: anyWire,
			does:  func(n, _, _ int) reply { return reply{silent: n > 3 && n < 9} },
		},
		{
			name:  "sends noise at times",
			least: 1.25,
			wires: []wire{rtuOverTCP, overSerial},
			does:  func(n, _, _ int) reply { return each(n, 5, reply{noise: []byte{0, 0xff, 0x55}}) },
		},
		{
			name:  "closes after each answer",
			least: 1,
			wires: []wire{overTCP, rtuOverTCP},
			does:  func(_, _, _ int) reply { return reply{closes: true} },
		},
		{
			name:  "closes instead of an answer at times",
			least: 1.25,
			wires: []wire{overTCP, rtuOverTCP},
			does:  func(n, _, _ int) reply { return each(n, 5, reply{silent: true, closes: true}) },
		},
		{name: "closes over one", least: 2, wires: []wire{overTCP, rtuOverTCP}, never: holes(17), does: func(_, first, count int) reply {
			over := over(holes(17), first, count)
			return reply{silent: over, closes: over}
		}},
	}
}

// unkind is a device with a behaviour.
type unkind struct {
	behaviour
	wire
	mu       sync.Mutex
	requests int
	last     time.Time
}

func (u *unkind) asked() int {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.requests
}

// start returns the address of the device.
func (u *unkind) start(t *testing.T) string {
	if u.wire == overSerial {
		master, name := pseudoTerminal(t)
		go u.serve(master)
		return "rtu://" + name
	}
	return string(u.wire) + "://" + listen(t, func(c net.Conn) { u.serve(c) })
}

// pseudoTerminal returns the device's end of a serial line, and the file at the other.
func pseudoTerminal(t *testing.T) (*os.File, string) {
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR, 0)
	require.NoError(t, err)
	t.Cleanup(func() { master.Close() })
	control, err := master.SyscallConn()
	require.NoError(t, err)
	number := 0
	require.NoError(t, control.Control(func(fd uintptr) {
		require.NoError(t, unix.IoctlSetPointerInt(int(fd), unix.TIOCSPTLCK, 0))
		number, err = unix.IoctlGetInt(int(fd), unix.TIOCGPTN)
	}))
	require.NoError(t, err)
	name := fmt.Sprintf("/dev/pts/%d", number)
	held, err := os.OpenFile(name, os.O_RDWR|unix.O_NOCTTY, 0) // an end that nobody holds cannot be read
	require.NoError(t, err)
	t.Cleanup(func() { held.Close() })
	state, err := unix.IoctlGetTermios(int(held.Fd()), unix.TCGETS)
	require.NoError(t, err)
	state.Iflag, state.Oflag, state.Lflag = 0, 0, 0
	require.NoError(t, unix.IoctlSetTermios(int(held.Fd()), unix.TCSETS, state))
	return master, name
}

func (u *unkind) serve(c io.ReadWriteCloser) {
	defer c.Close()
	size := 12
	if u.wire != overTCP {
		size = 8
	}
	for {
		request := make([]byte, size)
		if _, err := io.ReadFull(c, request); err != nil {
			return
		}
		asked := request[2:]
		if u.wire == overTCP {
			asked = request[8:]
		}
		first, count := int(binary.BigEndian.Uint16(asked)), int(binary.BigEndian.Uint16(asked[2:]))
		r := u.heard(first, count)
		if !r.silent {
			u.write(c, request, r, first, count)
		}
		if r.closes && u.wire != overSerial {
			return
		}
	}
}

func (u *unkind) heard(first, count int) reply {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.requests++
	if time.Since(u.last) < u.pause {
		return reply{silent: true}
	}
	r := u.does(u.requests, first, count)
	if !r.silent {
		u.last = time.Now()
	}
	return r
}

func (u *unkind) write(c io.Writer, request []byte, r reply, first, count int) {
	time.Sleep(r.after)
	unit, function := request[0], request[1]
	if u.wire == overTCP {
		unit, function = request[6], request[7]
	}
	n := count
	if r.registers > 0 {
		n = r.registers
	}
	body := []byte{unit, function, byte(2 * n)}
	for i := range n {
		body = binary.BigEndian.AppendUint16(body, uint16(first+i))
	}
	if r.exception != 0 {
		body = []byte{unit, function | 0x80, r.exception}
	}
	frame := u.framed(request, body, r.spoiled)
	switch {
	case r.foreign && u.wire == overTCP:
		frame = append(u.framed([]byte{0xab, 0xcd, 0, 0}, body, false), frame...)
	case r.foreign:
		frame = u.framed(request, append([]byte{unit + 1}, body[1:]...), false)
	case r.twice:
		frame = append(frame, frame...)
	case r.cut:
		frame = frame[:len(frame)/2]
	}
	frame = append(append([]byte{}, r.noise...), frame...)
	for r.pieces && len(frame) > 20 {
		_, _ = c.Write(frame[:20])
		frame = frame[20:]
		time.Sleep(time.Millisecond)
	}
	_, _ = c.Write(frame)
	u.mu.Lock()
	u.last = time.Now()
	u.mu.Unlock()
}

func (u *unkind) framed(request, body []byte, spoiled bool) []byte {
	if u.wire == overTCP {
		frame := binary.BigEndian.AppendUint16(append([]byte{}, request[:4]...), uint16(len(body)))
		frame = append(frame, body...)
		if spoiled {
			frame[8] ^= 0x10
		}
		return frame
	}
	sum := checkOf(body)
	if spoiled {
		sum ^= 0x0404
	}
	return binary.LittleEndian.AppendUint16(append([]byte{}, body...), sum)
}

// checkOf returns the CRC-16 of a frame (Modbus over Serial Line 1.02, 6.2.2).
func checkOf(frame []byte) uint16 {
	sum := uint16(0xffff)
	for _, one := range frame {
		sum ^= uint16(one)
		for range 8 {
			odd := sum&1 == 1
			if sum >>= 1; odd {
				sum ^= 0xa001
			}
		}
	}
	return sum
}

// tried is a device that is polled.
type tried struct {
	*bench
	*unkind
	name  string
	begun time.Time
	asked int
	read  uint64
	good  bool
}

const everyPoint = 200 * time.Millisecond

// given reports whether each register that the device gives was read, and is right.
func (d *tried) given() bool {
	for address := range 40 {
		one, found := d.Store.Find(series.Path(fmt.Sprintf("site/u/r%d", address)))
		if found == d.never[address] {
			return false
		}
		if !found {
			continue
		}
		_, v, ok, err := d.Store.LastBefore(context.Background(), one.ID, series.Readings,
			time.Now().Add(time.Hour).UnixNano())
		if err != nil || !ok || v != float64(address) {
			return false
		}
	}
	return true
}

// thrifty reports whether, since it was called last, readings came with little more requests than they take.
func (d *tried) thrifty() bool {
	now, asked, read := time.Now(), d.unkind.asked(), d.Tally().Readings
	points := now.Sub(d.begun).Seconds()/everyPoint.Seconds() + 1
	good := read-d.read >= 5*uint64(40-len(d.never)) && float64(asked-d.asked) <= 2*d.least*points
	d.begun, d.asked, d.read = now, asked, read
	return good
}

// Whatever a device does, each register that it gives is read, and soon with at most twice the requests that takes.
func TestEveryReadableRegisterIsReadOfDevicesAsTheyAre(t *testing.T) {
	if testing.Short() {
		t.Skip("devices that answer late are told from silent ones by the clock, which a race detector slows down")
	}
	t.Parallel()
	var all []*tried
	for _, how := range behaviours() {
		for _, over := range how.wires {
			d := &tried{
				bench:  newBench(t),
				unkind: &unkind{behaviour: how, wire: over},
				name:   how.name + ", over " + string(over),
			}
			d.poll(t,
				"{ address: %q, every: %s, timeout: 300ms, registers: [{ table: holding, address: 0, count: 40, number_from: 0, series: 'u/r{n}' }] }",
				d.start(t), everyPoint)
			all = append(all, d)
		}
	}
	require.GreaterOrEqual(t, len(all), 60)
	left := func() (names []string) {
		for _, d := range all {
			if !d.good {
				names = append(names, d.name)
			}
		}
		return names
	}
	if !assert.Eventually(t, func() bool {
		for _, d := range all {
			d.good = d.thrifty() && d.given() || d.good
		}
		return len(left()) == 0
	}, 20*time.Minute, 2500*time.Millisecond) {
		for _, d := range all {
			if !d.good {
				tally := d.Tally()
				t.Errorf("%s: %d requests, %d readings, absent %s, faults %v", d.name, d.unkind.asked(),
					tally.Readings, tally.Absent, tally.Faults)
			}
		}
	}
}

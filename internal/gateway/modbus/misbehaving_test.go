package modbus

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/rounds"
)

// rude is a device whose answers follow no library. Its registers hold their own address.
type rude struct {
	mu       sync.Mutex
	requests int
	lost     int           // requests that came too soon
	pause    time.Duration // between an answer and the next request, whichever unit it is to
	last     time.Time

	// answer returns how many of the registers are sent; less than 0: no answer at all.
	answer func(unit uint8, first, count int) int
	alter  func(frame []byte) []byte // nil: as it is
}

func (r *rude) start(t *testing.T) string {
	return "tcp://" + listen(t, r.serve)
}

// listen serves each connection to the address that it returns.
func listen(t *testing.T, serve func(net.Conn)) string {
	open, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { open.Close() })
	go func() {
		for {
			c, err := open.Accept()
			if err != nil {
				return
			}
			go serve(c)
		}
	}()
	return open.Addr().String()
}

func (r *rude) serve(c net.Conn) {
	defer c.Close()
	for {
		request := make([]byte, 12)
		if _, err := io.ReadFull(c, request); err != nil {
			return
		}
		first, count := int(binary.BigEndian.Uint16(request[8:])), int(binary.BigEndian.Uint16(request[10:]))
		n := r.heard(request[6], first, count)
		if n < 0 {
			continue
		}
		body := []byte{request[6], request[7], byte(2 * n)}
		for i := range n {
			body = binary.BigEndian.AppendUint16(body, uint16(first+i))
		}
		frame := binary.BigEndian.AppendUint16(append([]byte{}, request[:4]...), uint16(len(body)))
		frame = append(frame, body...)
		if r.alter != nil {
			frame = r.alter(frame)
		}
		if _, err := c.Write(frame); err != nil {
			return
		}
	}
}

func (r *rude) heard(unit uint8, first, count int) int {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.requests++
	if time.Since(r.last) < r.pause {
		r.lost++
		return -1
	}
	n := r.answer(unit, first, count)
	if n >= 0 {
		r.last = time.Now()
	}
	return n
}

func (r *rude) asked() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.requests
}

// within runs for a while and checks that the requests stay below four times the planned rate, and some to find out.
func within(t *testing.T, r *rude, every time.Duration, planned int, until func()) {
	t.Helper()
	begun, before := time.Now(), r.asked()
	until()
	most := 4*planned*int(time.Since(begun)/every+1) + 10
	assert.LessOrEqual(t, r.asked()-before, most)
}

func TestADeviceThatCutsAnswersShortIsAskedForLess(t *testing.T) {
	rounds.Alone(t)
	t.Parallel()
	b := newBench(t)
	device := &rude{answer: func(_ uint8, _, count int) int { return min(count, 20) }}
	b.poll(t,
		"{ address: %q, every: 200ms, timeout: 300ms, registers: [{ table: holding, address: 0, count: 40, series: 'u/r{n}' }] }",
		device.start(t))
	within(t, device, 200*time.Millisecond, 2, func() { b.more(40 * 8) })
	assert.Equal(t, 39.0, b.value(t, "site/u/r40"))
	b.Eventually("it is learned", func() bool {
		return strings.Contains(strings.Join(b.Tally().Line.Learned, "\n"), "gives 20 at once, and not")
	})
	assert.Contains(t, fmt.Sprint(b.Tally().Faults),
		"the answer is not the 40 asked for, though the device answers other reads")
	before := device.asked()
	b.more(40 * 10)
	assert.LessOrEqual(t, device.asked()-before, 2*10+6, "then it is asked for what it gives")
}

func TestARegisterThatIsNeverAnsweredHidesNoOther(t *testing.T) {
	t.Parallel()
	for _, mute := range []int{0, 17, 39} {
		t.Run(fmt.Sprint(mute), func(t *testing.T) {
			t.Parallel()
			b := newBench(t)
			device := &rude{answer: func(_ uint8, first, count int) int {
				if first <= mute && mute < first+count {
					return -1
				}
				return count
			}}
			b.poll(t,
				"{ address: %q, every: 200ms, timeout: 100ms, registers: [{ table: holding, address: 0, count: 40, series: 'u/r{n}' }] }",
				device.start(t))
			within(t, device, 200*time.Millisecond, 2, func() { b.more(39 * 10) })
			for _, address := range []int{1, 16, 18, 38} {
				assert.EqualValues(t, address, b.value(t, fmt.Sprintf("site/u/r%d", address+1)))
			}
			b.Eventually("the one is named", func() bool {
				return len(b.Tally().Absent) == 1 && strings.Contains(b.Tally().Absent[0],
					fmt.Sprintf("unit 1, holding %d is not given", mute))
			})
			assert.Contains(t, b.Tally().Absent[0], "the device does not answer this read, but answers others")
		})
	}
}

func TestADeviceThatAnswersNonsenseIsAskedMoreAndMoreRarely(t *testing.T) {
	t.Parallel()
	for name, alter := range map[string]func(frame []byte) []byte{
		"another function":  func(frame []byte) []byte { frame[7] = 0x2b; return frame },
		"one byte too much": func(frame []byte) []byte { frame[8]++; return frame },
		"no length":         func(frame []byte) []byte { frame[4], frame[5] = 0, 0; return frame },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t)
			device := &rude{answer: func(_ uint8, _, count int) int { return count }, alter: alter}
			b.poll(t,
				"{ address: %q, every: 100ms, timeout: 100ms, registers: [{ table: holding, address: 0, count: 4, series: 'u/r{n}' }] }",
				device.start(t))
			b.Eventually("it is tried again", func() bool { return device.asked() >= 4 })
			begun, before := time.Now(), device.asked()
			time.Sleep(2 * time.Second)
			assert.LessOrEqual(t, device.asked()-before, 2*int(time.Since(begun)/time.Second+2), name)
			assert.False(t, b.Tally().Up, name)
			assert.Contains(t, b.Tally().Absent[0], "unit 1 has not answered since", name)
		})
	}
}

func TestAConverterThatNeedsPausesGetsThemForAllUnits(t *testing.T) {
	rounds.Alone(t)
	t.Parallel()
	b := newBench(t)
	device := &rude{pause: 25 * time.Millisecond, answer: func(_ uint8, _, count int) int { return count }}
	b.poll(t, `{ address: %q, every: 300ms, timeout: 150ms, registers: [{ unit: 1, table: holding, address: 0, series: u1/a },
		{ unit: 2, table: holding, address: 0, series: u2/a }, { unit: 3, table: holding, address: 0, series: u3/a }] }`, device.start(t))
	b.Eventually("it is learned", func() bool {
		return strings.Contains(strings.Join(b.Tally().Line.Learned, "\n"), "the line needs ")
	})
	b.more(9)
	device.mu.Lock()
	lost := device.lost
	device.mu.Unlock()
	b.more(30)
	device.mu.Lock()
	defer device.mu.Unlock()
	assert.LessOrEqual(t, device.lost-lost, 1)
	assert.Empty(t, b.Tally().Absent)
}

func TestWhatGoesWrongOnALineIsTold(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	var mu sync.Mutex
	n := 0
	device := &rude{answer: func(_ uint8, _, count int) int { return count }, alter: func(frame []byte) []byte {
		mu.Lock()
		defer mu.Unlock()
		switch n++; n % 4 {
		case 1: // an answer to another request comes first
			return append(append([]byte{0xff, 0xff}, frame[2:]...), frame...)
		case 3:
			return append(frame[:7:7], 0x83, 0x04)[:9] // an exception, with the length of another answer
		}
		return frame
	}}
	b.poll(t,
		"{ address: %q, every: 100ms, timeout: 150ms, registers: [{ table: holding, address: 0, series: u/a }, { table: holding, address: 90, series: u/b }], holes: never }",
		device.start(t))
	told := func(what string) bool {
		for _, f := range b.Tally().Line.Failures {
			if f.What == what {
				return assert.NotZero(t, f.Count) && assert.WithinDuration(t, time.Now(), f.LastAt, time.Minute)
			}
		}
		return false
	}
	b.Eventually("both are told", func() bool { return told("answer to another request") && told("no answer") })
	assert.True(t, b.Tally().Up)
}

// A device that answers every read with an exception is not up: no value comes.
func TestADeviceThatGivesNothingIsNotUp(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	device := &rude{answer: func(_ uint8, _, count int) int { return count }, alter: func(frame []byte) []byte {
		frame[4], frame[5], frame[7], frame[8] = 0, 3, frame[7]|0x80, 0x04
		return frame[:9]
	}}
	b.poll(t,
		"{ address: %q, every: 100ms, timeout: 150ms, registers: [{ table: holding, address: 0, series: u/a }] }",
		device.start(t))
	b.Eventually("it is asked", func() bool { return device.asked() > 5 })
	assert.False(t, b.Tally().Up)
	b.Eventually("the exception has its name", func() bool {
		return len(b.Tally().Line.Failures) == 1 && b.Tally().Line.Failures[0].What == "server device failure"
	})
}

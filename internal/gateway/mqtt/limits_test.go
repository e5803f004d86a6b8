package mqtt

import (
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/gateway/source/sourcetest"
)

func TestSilentConnectionsKeepNoDeviceOut(t *testing.T) {
	b := sourcetest.New(t)
	l := listen(b, 64)
	var first net.Conn
	for i := range 100 {
		conn, err := net.Dial("tcp", l.Tally().Address)
		require.NoError(t, err)
		defer conn.Close()
		if i == 0 {
			first = conn
		}
	}
	dial(t, l).connect("good", true).publish(1, 1, "mast/good", "5")
	require.NoError(t, first.SetReadDeadline(time.Now().Add(time.Minute)))
	_, err := first.Read(make([]byte, 1))
	assert.ErrorIs(t, err, io.EOF, "the oldest has gone")
	assert.Contains(t, l.Tally().LastError, "it had not said who it is")
}

func TestMessagesThatAreNeverReleasedAreBounded(t *testing.T) {
	b := sourcetest.New(t)
	l := listen(b, 100)
	d := dial(t, l).connect("hoarder", false)
	for i := range mostUnreleased {
		d.publish(2, uint16(i+1), "mast/speed", "5")
		d.answered(packets.Pubrec, uint16(i+1))
		if i%2 == 0 { // what is released makes room
			d.send([]byte{0x62, 2, byte((i + 1) >> 8), byte(i + 1)})
			d.answered(packets.Pubcomp, uint16(i+1))
		}
	}
	for i := mostUnreleased; i < 3*mostUnreleased; i++ {
		body := append([]byte{0, 10}, "mast/speed"...)
		if _, err := d.Write(append([]byte{0x34, byte(len(body) + 3)}, append(body, byte((i+1)>>8), byte(i+1), '5')...)); err != nil {
			break
		}
	}
	_, _ = io.Copy(io.Discard, d.in) // ends as it is sent away
	b.Eventually("that is said", func() bool {
		for _, f := range l.Tally().Faults {
			if strings.Contains(f.Text, "messages of QoS 2 that it does not release (PUBREL)") {
				return true
			}
		}
		return false
	})
	cl, ok := l.server.Clients.Get("hoarder")
	require.True(t, ok)
	assert.Less(t, cl.State.Inflight.Len(), 2*mostUnreleased, "what is under way is not counted yet")
}

func TestSessionsLeftWithUnreleasedMessagesEndWhenThereAreTooMany(t *testing.T) {
	if testing.Short() {
		t.Skip("20,000 messages take long under the race detector")
	}
	b := sourcetest.New(t)
	l := listen(b, 100)
	const each = 900
	for n := range mostUnreleasedAll/each + 4 {
		d := dial(t, l).connect(fmt.Sprintf("gone-%d", n), false)
		for i := range each {
			d.publish(2, uint16(i+1), "mast/speed", "5")
		}
		for i := range each {
			d.answered(packets.Pubrec, uint16(i+1))
		}
		d.Close()
		b.Eventually("it is gone", func() bool {
			cl, ok := l.server.Clients.Get(fmt.Sprintf("gone-%d", n))
			return !ok || cl.Closed()
		})
	}
	all := 0
	for _, cl := range l.server.Clients.GetAll() {
		all += cl.State.Inflight.Len()
	}
	assert.Less(t, all, mostUnreleasedAll+2*each, "what is under way is not counted yet")
	said := false
	for _, f := range l.Tally().Faults {
		said = said || strings.Contains(f.Text, "its session was ended")
	}
	assert.True(t, said, l.Tally().Faults)
}

func TestThoseWhoAreLikelierToBeLetInGoFirst(t *testing.T) {
	turns := newTurns()
	require.True(t, turns.take(unknown))
	order := make(chan rank, 200)
	for range mostWaiting {
		go func() {
			if turns.take(unknown) {
				order <- unknown
				turns.give()
			}
		}()
	}
	waiting := func(r rank) int {
		turns.mu.Lock()
		defer turns.mu.Unlock()
		return len(turns.waiting[r])
	}
	require.Eventually(t, func() bool { return waiting(unknown) == mostWaiting }, time.Minute, time.Millisecond)
	assert.False(t, turns.take(unknown), "the queue is bounded")
	for _, r := range []rank{known, wasHere} {
		go func() {
			if turns.take(r) {
				order <- r
				turns.give()
			}
		}()
		require.Eventually(t, func() bool { return waiting(r) == 1 }, time.Minute, time.Millisecond)
	}
	turns.give()
	assert.Equal(t, []rank{wasHere, known, unknown}, []rank{<-order, <-order, <-order})
	require.Eventually(t, func() bool { return waiting(unknown) == 0 }, time.Minute, time.Millisecond)

	for range mostFailures {
		assert.False(t, turns.often("10.0.0.1"))
		turns.failed("10.0.0.1")
	}
	assert.True(t, turns.often("10.0.0.1"))
	assert.False(t, turns.often("10.0.0.2"))
	for i := range mostFailing + 10 {
		turns.failed(fmt.Sprint(i))
	}
	assert.LessOrEqual(t, len(turns.failures), mostFailing, "it stays bounded")

	require.Eventually(t, func() bool { return turns.take(known) }, time.Minute, time.Millisecond)
	ended := make(chan bool)
	go func() { ended <- turns.take(known) }()
	require.Eventually(t, func() bool { return waiting(known) == 1 }, time.Minute, time.Millisecond)
	turns.close()
	assert.False(t, <-ended, "who stops does not wait")
}

func TestAClientIDInAPermissionIsAdvisedAgainst(t *testing.T) {
	var raw listenerKeys
	f, at, err := shape.Read("l.yaml",
		[]byte("address: 127.0.0.1:0\npermissions: [{ topics: [\"{client}/#\"] }]\nmessages: [{ topic: a/b, series: a/b }]\n"),
		&raw)
	require.NoError(t, err)
	checkListener(at, "long-mere", raw)
	require.NoError(t, f.Err())
	require.Len(t, f.Advice(), 1)
	assert.Contains(t, f.Advice()[0].Error(), "l.yaml:2:")
	assert.Contains(t, f.Advice()[0].Error(), "a device chooses its client id")
}

package source

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/store"
)

// bench is a pipeline on a store of its own, for sources to speak to.
type bench struct {
	t     *testing.T
	store *store.Store
	pipe  *pipeline.Pipeline
}

func newBench(t *testing.T) *bench {
	st, err := store.Open(filepath.Join(t.TempDir(), "s.db"), slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(t, err)
	pipe, err := pipeline.New(st, config.Gateway{Tiers: rollup.Tiers, Pace: config.Pace{Messages: 20 * time.Millisecond, Polls: 20 * time.Millisecond}}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	b := &bench{t, st, pipe}
	b.run(pipe.Run)
	t.Cleanup(func() { assert.NoError(t, st.Close()) })
	return b
}

// run runs something until the test ends.
func (b *bench) run(run func(context.Context) error) {
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- run(ctx) }()
	b.t.Cleanup(func() {
		cancel()
		assert.NoError(b.t, <-done)
	})
}

func (b *bench) rejects() []reading.Reject {
	all, err := b.store.Rejects("", 100)
	require.NoError(b.t, err)
	return all
}

func (b *bench) eventually(what string, happened func() bool) {
	require.Eventually(b.t, happened, time.Minute, 5*time.Millisecond, what)
}

func (b *bench) listen(clients int) *Listener {
	settings, err := config.Parse("m.yaml", []byte(mappings))
	require.NoError(b.t, err)
	s := *settings.Gateway.Sources[0].Listener
	s.MaxPayload, s.MaxClients = 1000, clients
	l := NewListener("lake", s, b.pipe, slog.New(slog.DiscardHandler))
	b.run(l.Run)
	b.eventually("it listens", func() bool { return l.Tally().Up })
	return l
}

// device speaks MQTT 3.1.1 by hand.
type device struct {
	t *testing.T
	net.Conn
	in *bufio.Reader
}

func dial(t *testing.T, l *Listener) *device {
	conn, err := net.Dial("tcp", l.Tally().Address)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(time.Minute)))
	return &device{t, conn, bufio.NewReader(conn)}
}

func (d *device) connect(id string, clean bool) *device {
	flags := byte(0)
	if clean {
		flags = 2
	}
	d.send(append([]byte{0x10, byte(12 + len(id)), 0, 4, 'M', 'Q', 'T', 'T', 4, flags, 0, 60, 0, byte(len(id))}, id...))
	answer := d.read(4)
	require.Equal(d.t, byte(packets.Connack<<4), answer[0])
	require.Zero(d.t, answer[3])
	return d
}

func (d *device) send(b []byte) {
	_, err := d.Write(b)
	require.NoError(d.t, err)
}

func (d *device) read(n int) []byte {
	b := make([]byte, n)
	_, err := io.ReadFull(d.in, b)
	require.NoError(d.t, err)
	return b
}

func (d *device) publish(qos byte, id uint16, topic, payload string) {
	body := append([]byte{byte(len(topic) >> 8), byte(len(topic))}, topic...)
	if qos > 0 {
		body = append(body, byte(id>>8), byte(id))
	}
	body = append(body, payload...)
	length := len(body)
	head := []byte{0x30 | qos<<1}
	for {
		digit := byte(length % 128)
		if length /= 128; length > 0 {
			head = append(head, digit|0x80)
			continue
		}
		head = append(head, digit)
		break
	}
	d.send(append(head, body...))
}

// answered waits for the acknowledgement of a message.
func (d *device) answered(packet byte, id uint16) {
	got := d.read(4)
	require.Equal(d.t, []byte{packet << 4, 2, byte(id >> 8), byte(id)}, got)
}

func TestTopicsThatCannotBeAreRejectedAndAnswered(t *testing.T) {
	b := newBench(t)
	d := dial(t, b.listen(10)).connect("d", true)
	for i, topic := range []string{"$SYS/broker/x", "mast/+", "mast/speed"} {
		d.publish(1, uint16(i+1), topic, "5")
		d.answered(packets.Puback, uint16(i+1))
	}
	rejects := b.rejects()
	require.Len(t, rejects, 2)
	assert.Equal(t, [2]string{"mast/+", "$SYS/broker/x"}, [2]string{rejects[0].Place, rejects[1].Place})
	assert.Contains(t, rejects[0].Reason, "begins with $, or has a wildcard in it")
}

func TestMessagesThatAreTooLargeAreAmongTheRejects(t *testing.T) {
	b := newBench(t)
	d := dial(t, b.listen(10)).connect("large-one", true)
	d.publish(1, 1, "mast/speed", strings.Repeat("1", 5000))
	_, err := d.in.ReadByte()
	assert.Error(t, err, "the connection is closed")
	b.eventually("it is kept", func() bool { return len(b.rejects()) == 1 })
	assert.Contains(t, b.rejects()[0].Reason, "message is larger than max_payload allows, 1000 bytes")
	assert.Equal(t, "device large-one", b.rejects()[0].Place)
}

func TestAPacketIdentifierOfANewSessionMeansAnotherMessage(t *testing.T) {
	b := newBench(t)
	l := b.listen(10)
	hold, held := make(chan struct{}), make(chan struct{})
	go func() {
		_ = b.pipe.Between(context.Background(), func() error { close(held); <-hold; return nil })
	}()
	<-held // nothing is committed now
	first := dial(t, l).connect("d", true)
	first.publish(2, 7, "mast/speed", "1")
	b.eventually("it is under way", func() bool { return l.Tally().Messages == 1 })
	first.Close()
	second := dial(t, l).connect("d", true)
	second.publish(2, 7, "mast/speed", "2")
	b.eventually("the other one too", func() bool { return l.Tally().Messages == 2 })
	close(hold)
	second.answered(packets.Pubrec, 7)
	known, ok := b.store.Find("long-mere/mast/speed")
	require.True(t, ok)
	rows, err := b.store.Read(known.ID, rollup.Readings, 0, 1<<62)
	require.NoError(t, err)
	assert.Equal(t, []float64{11, 12}, rows.Cols[0], "both count")
}

func TestConnectionsThatFailLeaveNothingBehind(t *testing.T) {
	if testing.Short() {
		t.Skip("the race detector objects to how the library counts connections while it closes")
	}
	b := newBench(t)
	l := b.listen(1000)
	dial(t, l).connect("warm", true).Close()
	before := runtime.NumGoroutine()
	for i := range 200 { // they ask, and are gone before the answer
		conn, err := net.Dial("tcp", l.Tally().Address)
		require.NoError(t, err)
		id := fmt.Sprintf("d-%03d", i)
		require.NoError(t, conn.(*net.TCPConn).SetLinger(0))
		_, err = conn.Write(append([]byte{0x10, byte(12 + len(id)), 0, 4, 'M', 'Q', 'T', 'T', 4, 2, 0, 60, 0, byte(len(id))}, id...))
		require.NoError(t, err)
		conn.Close()
	}
	b.eventually("their goroutines end", func() bool { return runtime.NumGoroutine() <= before+5 })
	ackers := 0
	l.ackers.Range(func(any, any) bool { ackers++; return true })
	assert.Zero(t, ackers)
}

func TestThereIsALimitOfConnectionsAndATimeToIntroduceOneself(t *testing.T) {
	b := newBench(t)
	l := b.listen(2)
	first := dial(t, l).connect("a", true)
	silent := dial(t, l)
	third := dial(t, l)
	_, err := third.in.ReadByte()
	assert.Error(t, err, "there is no room for it")
	b.eventually("that is said", func() bool { return strings.Contains(l.Tally().LastError, "as many as max_clients allows") })
	begun := time.Now()
	_, err = silent.in.ReadByte()
	assert.ErrorIs(t, err, io.EOF, "who says nothing is sent away")
	assert.Less(t, time.Since(begun), introduceWithin+10*time.Second)
	dial(t, l).connect("b", true)
	first.publish(1, 1, "mast/speed", "5")
	first.answered(packets.Puback, 1)
}

// refusing grants nothing but what is public.
type refusing struct{ mqtt.HookBase }

func (r *refusing) Provides(b byte) bool {
	return b == mqtt.OnConnectAuthenticate || b == mqtt.OnACLCheck
}

func (r *refusing) OnConnectAuthenticate(*mqtt.Client, packets.Packet) bool { return true }

func (r *refusing) OnACLCheck(_ *mqtt.Client, topic string, _ bool) bool {
	return strings.HasPrefix(topic, "public/")
}

func TestASubscriptionThatTheBrokerRefusesIsNotCalledUp(t *testing.T) {
	b := newBench(t)
	server := mqtt.New(&mqtt.Options{Logger: slog.New(slog.DiscardHandler)})
	require.NoError(t, server.AddHook(&refusing{}, nil))
	open, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, server.AddListener(listeners.NewNet("b", open)))
	require.NoError(t, server.Serve())
	defer server.Close()
	settings, err := config.Parse("m.yaml", []byte(mappings))
	require.NoError(t, err)
	broker := NewBroker("site", config.Broker{Address: "tcp://" + open.Addr().String(), ClientID: "c", User: "eel", Messages: settings.Gateway.Sources[0].Listener.Messages}, b.pipe, slog.New(slog.DiscardHandler))
	b.run(broker.Run)
	b.eventually("it is a fault", func() bool { return len(broker.Tally().Faults) == 2 })
	assert.Contains(t, broker.Tally().LastError, `the broker refuses the subscription (code 0x80); may user "eel" read it there?`)
	assert.False(t, broker.Tally().Up)
}

func TestAnAcknowledgementThatBlocksHoldsUpNobodyElse(t *testing.T) {
	a := acks{wake: make(chan struct{}, 1)}
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { defer close(ended); a.run(ctx) }()
	stuck := make(chan struct{})
	a.add(func() { <-stuck })
	order := make(chan int, 100)
	for i := range 100 {
		a.add(func() { order <- i }) // returns at once
	}
	close(stuck)
	for i := range 100 {
		assert.Equal(t, i, <-order)
	}
	cancel()
	<-ended
}

package mqtt

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/url"
	"runtime"
	"strings"
	"testing"
	"time"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/payload"
	"nexocumula/internal/gateway/source/sourcetest"
)

// lake are messages such as the buoys of a lake send.
func lake() []payload.Message {
	var raw struct {
		Messages []shape.Part `yaml:"messages"`
	}
	_, at, err := shape.Read("m.yaml", []byte(`messages:
  - topic: "buoy/{buoy}/state"
    payload: json
    time: /at
    values:
      - { at: /water/t1, series: "{buoy}/water_temp_1m" }
      - { at: /battery, series: "{buoy}/battery", scale: 0.001 }
  - { topic: "{station}/{quantity}", series: "{station}/{quantity}", offset: 10 }
`), &raw)
	if err != nil {
		panic(err)
	}
	return payload.ReadMessages(at, "long-mere", raw.Messages)
}

func listen(b *sourcetest.Bench, clients int) *listener {
	s := listenerSettings{address: "127.0.0.1:0", maxPayload: 1000, maxClients: clients, messages: lake()}
	l := newListener("lake", s, b.Pipe, slog.New(slog.DiscardHandler))
	b.Run(l.Run)
	b.Eventually("it listens", func() bool { return l.Tally().Up })
	return l
}

// handmade speaks MQTT 3.1.1 by hand.
type handmade struct {
	t *testing.T
	net.Conn
	in *bufio.Reader
}

func dial(t *testing.T, l *listener) *handmade {
	conn, err := net.Dial("tcp", l.Tally().Address)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(time.Minute)))
	return &handmade{t, conn, bufio.NewReader(conn)}
}

func (d *handmade) connect(id string, clean bool) *handmade {
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

func (d *handmade) send(b []byte) {
	_, err := d.Write(b)
	require.NoError(d.t, err)
}

func (d *handmade) read(n int) []byte {
	b := make([]byte, n)
	_, err := io.ReadFull(d.in, b)
	require.NoError(d.t, err)
	return b
}

func (d *handmade) publish(qos byte, id uint16, topic, payload string) {
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
func (d *handmade) answered(packet byte, id uint16) {
	got := d.read(4)
	require.Equal(d.t, []byte{packet << 4, 2, byte(id >> 8), byte(id)}, got)
}

func TestTopicsThatCannotBeAreRejectedAndAnswered(t *testing.T) {
	b := sourcetest.New(t)
	d := dial(t, listen(b, 10)).connect("d", true)
	for i, topic := range []string{"$SYS/broker/x", "mast/+", "mast/speed"} {
		d.publish(1, uint16(i+1), topic, "5")
		d.answered(packets.Puback, uint16(i+1))
	}
	rejects := b.Rejects()
	require.Len(t, rejects, 2)
	assert.Equal(t, [2]string{"mast/+", "$SYS/broker/x"}, [2]string{rejects[0].Place, rejects[1].Place})
	assert.Contains(t, rejects[0].Reason, "begins with $, or has a wildcard in it")
}

func TestMessagesThatAreTooLargeAreAmongTheRejects(t *testing.T) {
	b := sourcetest.New(t)
	d := dial(t, listen(b, 10)).connect("large-one", true)
	d.publish(1, 1, "mast/speed", strings.Repeat("1", 5000))
	_, err := d.in.ReadByte()
	assert.Error(t, err, "the connection is closed")
	b.Eventually("it is kept", func() bool { return len(b.Rejects()) == 1 })
	assert.Contains(t, b.Rejects()[0].Reason, "message is larger than max_payload allows, 1000 bytes")
	assert.Equal(t, "device large-one", b.Rejects()[0].Place)
}

func TestAPacketIdentifierOfANewSessionMeansAnotherMessage(t *testing.T) {
	b := sourcetest.New(t)
	l := listen(b, 10)
	hold, held := make(chan struct{}), make(chan struct{})
	go func() {
		_ = b.Pipe.Between(context.Background(), func() error { close(held); <-hold; return nil })
	}()
	<-held // nothing is committed now
	first := dial(t, l).connect("d", true)
	first.publish(2, 7, "mast/speed", "1")
	b.Eventually("it is under way", func() bool { return l.Tally().Messages == 1 })
	first.Close()
	second := dial(t, l).connect("d", true)
	second.publish(2, 7, "mast/speed", "2")
	b.Eventually("the other one too", func() bool { return l.Tally().Messages == 2 })
	close(hold)
	second.answered(packets.Pubrec, 7)
	known, ok := b.Store.Find("long-mere/mast/speed")
	require.True(t, ok)
	rows, err := b.Store.Read(t.Context(), known.ID, series.Readings, 0, 1<<62)
	require.NoError(t, err)
	assert.Equal(t, []float64{11, 12}, rows.Cols[0], "both count")
}

func TestConnectionsThatFailLeaveNothingBehind(t *testing.T) {
	if testing.Short() {
		t.Skip("the race detector objects to how the library counts connections while it closes")
	}
	b := sourcetest.New(t)
	l := listen(b, 1000)
	dial(t, l).connect("warm", true).Close()
	before := runtime.NumGoroutine()
	for i := range 200 { // they ask, and are gone before the answer
		conn, err := net.Dial("tcp", l.Tally().Address)
		require.NoError(t, err)
		id := fmt.Sprintf("d-%03d", i)
		require.NoError(t, conn.(*net.TCPConn).SetLinger(0))
		_, err = conn.Write(append([]byte{
			0x10, byte(12 + len(id)), 0, 4, 'M', 'Q', 'T', 'T', 4, 2, 0, 60, 0, byte(len(id)),
		}, id...))
		require.NoError(t, err)
		conn.Close()
	}
	b.Eventually("their goroutines end", func() bool { return runtime.NumGoroutine() <= before+5 })
	b.Eventually("nothing waits to acknowledge them", func() bool {
		ackers := 0
		l.devices.Range(func(any, any) bool { ackers++; return true })
		return ackers == 0
	})
}

func TestThereIsALimitOfConnectionsAndATimeToIntroduceOneself(t *testing.T) {
	b := sourcetest.New(t)
	l := listen(b, 2)
	first := dial(t, l).connect("a", true)
	silent := dial(t, l)
	second := dial(t, l).connect("b", true) // who says nothing takes no room
	third := dial(t, l)
	third.send([]byte{0x10, 13, 0, 4, 'M', 'Q', 'T', 'T', 4, 2, 0, 60, 0, 1, 'c'})
	_, err := third.in.ReadByte()
	assert.Error(t, err, "there is no room for it")
	b.Eventually("that is said", func() bool {
		return strings.Contains(l.Tally().LastError, "as many as max_clients allows")
	})
	begun := time.Now()
	_, err = silent.in.ReadByte()
	assert.ErrorIs(t, err, io.EOF, "who says nothing is sent away")
	assert.Less(t, time.Since(begun), introduceWithin+10*time.Second)
	second.Close()
	b.Eventually("there is room again", func() bool {
		conn, err := net.Dial("tcp", l.Tally().Address)
		require.NoError(t, err)
		defer conn.Close()
		_, _ = conn.Write([]byte{0x10, 13, 0, 4, 'M', 'Q', 'T', 'T', 4, 2, 0, 60, 0, 1, 'c'})
		n, _ := io.ReadFull(conn, make([]byte, 4))
		return n == 4
	})
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
	server := mqtt.New(&mqtt.Options{Logger: slog.New(slog.DiscardHandler)})
	require.NoError(t, server.AddHook(&refusing{}, nil))
	open, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, server.AddListener(listeners.NewNet("b", open)))
	require.NoError(t, server.Serve())
	defer server.Close()
	for version, wrong := range map[int]string{4: "(code 0x80)", 5: "(code 0x87, not authorized)"} {
		b := sourcetest.New(t)
		settings := brokerSettings{
			address:  &url.URL{Scheme: "tcp", Host: open.Addr().String()},
			version:  version,
			clientID: fmt.Sprint("c", version),
			user:     "eel",
			unacked:  100,
			messages: lake(),
		}
		broker := newBroker("site", settings, b.Pipe, slog.New(slog.DiscardHandler))
		b.Run(broker.Run)
		b.Eventually("it is a fault", func() bool { return len(broker.Tally().Faults) == 2 })
		assert.Contains(t, broker.Tally().LastError,
			"the broker refuses the subscription "+wrong+`; may user "eel" read it there?`)
		assert.False(t, broker.Tally().Up)
	}
}

// A client that comes while the listener closes is not told to go by the library, which waits for it.
func TestAListenerEndsWhoeverIsComing(t *testing.T) {
	b := sourcetest.New(t)
	l := newListener("lake", listenerSettings{
		address:    "127.0.0.1:0",
		maxClients: 10,
		maxPayload: 1000,
		messages:   lake(),
	}, b.Pipe, slog.New(slog.DiscardHandler))
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- l.Run(ctx) }()
	b.Eventually("it listens", func() bool { return l.Tally().Up })
	conn, err := net.Dial("tcp", l.Tally().Address)
	require.NoError(t, err)
	defer conn.Close()
	_, err = conn.Write([]byte{0x10}) // it has begun to say who it is
	require.NoError(t, err)
	time.Sleep(100 * time.Millisecond)
	stop()
	time.Sleep(100 * time.Millisecond)
	_, err = conn.Write([]byte{13, 0, 4, 'M', 'Q', 'T', 'T', 4, 2, 0, 0, 0, 1, 'x'}) // without a keep-alive
	require.NoError(t, err)
	select {
	case err := <-ended:
		assert.NoError(t, err)
	case <-time.After(time.Minute):
		require.Fail(t, "the listener does not end")
	}
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

func TestAMessageOnItsWayIsNotTakenTwice(t *testing.T) {
	var d doubles
	first := d.begin("buoy-1", 5)
	assert.NotNil(t, first)
	assert.Nil(t, d.begin("buoy-1", 5))
	assert.NotNil(t, d.begin("buoy-2", 5))
	d.forget("buoy-1") // a new session
	again := d.begin("buoy-1", 5)
	assert.NotNil(t, again, "the identifier means another message now")
	assert.False(t, d.end(first), "whose commit must not acknowledge it")
	assert.True(t, d.end(again))
	assert.NotNil(t, d.begin("buoy-1", 5))
}

package mqtt

import (
	"context"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/event"
	"nexocumula/internal/gateway/payload"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/gateway/sparkplug"
	"nexocumula/internal/plain"
)

// listener is an MQTT 3.1.1 and 5 server that devices publish to. It distributes nothing,
// but to nodes of Sparkplug the commands of the host: nobody else can subscribe.
//
// The broker library acknowledges a message as soon as its hook returns, one message
// of a client after the other; a hook that waited for the disk would allow a single
// message per client and commit. So the hook takes the message over, which makes the
// library send no acknowledgement, and the listener sends it when the commit is done.
type listener struct {
	source.Counter
	name string
	mqtt.HookBase
	settings   listenerSettings
	messages   *payload.Messages
	pipe       *pipeline.Pipeline
	log        *slog.Logger
	server     *mqtt.Server
	devices    sync.Map // *mqtt.Client → *device
	shows      shows
	doubles    doubles
	sinceCount atomic.Uint64 // messages of QoS 2 that came, see unreleased
	presence   presence
	sparks     *sparks // nil: none
	opened     chan struct{}
}

func newListener(name string, settings listenerSettings, pipe *pipeline.Pipeline, log *slog.Logger) *listener {
	l := &listener{
		name:     name,
		settings: settings,
		pipe:     pipe,
		log:      log.With("source", name),
		opened:   make(chan struct{}),
	}
	l.messages = payload.NewMessages(name, settings.messages)
	l.sparks = newSparks(name, settings.sparkplug, &l.Counter, pipe)
	l.Change(func(t *source.Tally) { *t = source.Tally{Name: name, Form: "mqtt_listener", Address: settings.address} })
	return l
}

// Run listens until ctx ends.
func (l *listener) Run(ctx context.Context) error {
	caps := mqtt.NewDefaultServerCapabilities()
	caps.MaximumPacketSize = uint32(l.settings.maxPayload) + 1024 // topic and header beside it
	caps.MaximumSessionExpiryInterval = 24 * 60 * 60
	caps.MaximumMessageExpiryInterval = math.MaxInt32
	caps.ReceiveMaximum = mostUnreleased
	caps.MaximumClientWritesPending = 64 // nothing is ever sent to a device but answers
	caps.RetainAvailable = 1             // devices that set the flag must not be turned away; nothing is retained
	l.server = mqtt.New(&mqtt.Options{
		Capabilities:           caps,
		Logger:                 event.OfLibrary(l.log),
		SysTopicResendInterval: 3600,
		InlineClient:           l.sparks != nil,
	})
	if err := l.server.AddHook(l, nil); err != nil {
		return fmt.Errorf("source %s: %w", l.name, err)
	}
	open, err := net.Listen("tcp", l.settings.address)
	if err != nil {
		return fmt.Errorf("source %s: listening for MQTT at %s: %w", l.name, l.settings.address, plain.Network(err))
	}
	door := &guard{
		Listener: open,
		most:     l.settings.maxClients,
		plain:    l.settings.tls == nil,
		refuse:   func(remote, why string) { l.Failed("connections", remote+" was turned away: "+why) },
	}
	open = door
	l.Change(func(t *source.Tally) { t.Address = open.Addr().String() })
	if l.settings.tls != nil {
		open = tls.NewListener(open, l.settings.tls.Server(l.settings.needCert))
	}
	if err := l.server.AddListener(listeners.NewNet(l.name, open)); err != nil {
		return fmt.Errorf("source %s: %w", l.name, err)
	}
	if err := l.server.Serve(); err != nil {
		return fmt.Errorf("source %s: %w", l.name, err)
	}
	l.Up(true)
	close(l.opened)
	if l.sparks != nil {
		l.sparks.connected(func(m sparkplug.Message) { _ = l.server.Publish(m.Topic, m.Payload, m.Retain, qosOf(m)) }) // it cannot fail while the server runs
		go l.sparks.watch(ctx)
	}
	l.watch(ctx)
	l.Up(false)
	return l.close(door)
}

func (l *listener) Opened() <-chan struct{} { return l.opened }

// partAfter is how long clients have to take leave.
const partAfter = 500 * time.Millisecond

// close ends the server. The library waits for every client, also for one that it took in while it
// was saying goodbye to the others, which nobody told to go; so their connections are closed.
func (l *listener) close(door *guard) error {
	door.shut()
	if l.settings.accounts != nil {
		l.settings.accounts.turns.close()
	}
	ended := make(chan error, 1)
	go func() { ended <- l.server.Close() }()
	for {
		select {
		case err := <-ended:
			return err
		case <-time.After(partAfter):
			door.part()
		}
	}
}

// ID names the hook to the library.
func (l *listener) ID() string { return "nexocumula" }

// Provides says which of the library's calls the hook takes. It is asked several times a
// message.
func (l *listener) Provides(b byte) bool {
	switch b {
	case mqtt.OnConnect, mqtt.OnConnectAuthenticate, mqtt.OnACLCheck, mqtt.OnPacketRead, mqtt.OnPublish, mqtt.OnSessionEstablish, mqtt.OnSessionEstablished, mqtt.OnDisconnect, mqtt.OnWillSent:
		return true
	}
	return false
}

// OnConnect ends the wait for a connection to say who it is.
func (l *listener) OnConnect(cl *mqtt.Client, _ packets.Packet) error {
	conn := cl.Net.Conn
	if secure, ok := conn.(*tls.Conn); ok {
		conn = secure.NetConn()
	}
	if c, ok := conn.(*guarded); ok && !c.introduce() {
		return packets.ErrServerBusy
	}
	return nil
}

// OnSessionEstablish forgets what an earlier session of the client had under way, when it
// begins a new one: its packet identifiers may come again and mean something else.
func (l *listener) OnSessionEstablish(cl *mqtt.Client, pk packets.Packet) {
	if pk.Connect.Clean {
		l.doubles.forget(cl.ID)
	}
}

// OnDisconnect ends the acknowledging of a client, and says why a connection was lost.
func (l *listener) OnDisconnect(cl *mqtt.Client, err error, _ bool) {
	if d, ok := l.devices.LoadAndDelete(cl); ok {
		d.(*device).close()
		l.present(cl, d.(*device), false)
	}
	if err == nil {
		return
	}
	if errors.Is(err, packets.ErrPacketTooLarge) {
		l.reject("device "+cl.ID,
			fmt.Sprintf("message is larger than max_payload allows, %d bytes; the connection was closed",
				l.settings.maxPayload),
			nil)
	}
	if cause := cl.StopCause(); cause != nil && cause != packets.CodeDisconnect {
		l.Failed("device "+cl.ID, fmt.Sprintf("connection from %s lost: %v", cl.Net.Remote, plain.Network(cause)))
	}
}

// reject keeps what never became a delivery.
func (l *listener) reject(place, reason string, raw []byte) {
	at, err := l.pipe.Arrive()
	if err != nil {
		return
	}
	from := reading.Origin{Source: l.name, Place: place, Raw: raw}
	l.Arrived(0, 1)
	l.pipe.Submit(&pipeline.Delivery{Rejects: []reading.Reject{from.Reject(at, reason)}})
}

// forbidden marks topics that the library would drop without an answer, from which the
// device could only learn to send them for ever.
const forbidden = "\uE000"

// OnPacketRead gives such a topic a form that comes through to OnPublish.
func (l *listener) OnPacketRead(_ *mqtt.Client, pk packets.Packet) (packets.Packet, error) {
	if pk.FixedHeader.Type == packets.Publish && pk.TopicName != "" && !mqtt.IsValidFilter(pk.TopicName, true) {
		pk.TopicName = forbidden + base64.RawURLEncoding.EncodeToString([]byte(pk.TopicName))
	}
	return pk, nil
}

// OnPublish takes a message over.
func (l *listener) OnPublish(cl *mqtt.Client, pk packets.Packet) (packets.Packet, error) {
	if cl.Net.Inline && l.sparks.mine(pk.TopicName) {
		return pk, nil // what we send to those who listen
	}
	if cl.Net.Inline {
		return pk, packets.ErrRejectPacket // the library's own $SYS topics
	}
	qos, id := pk.FixedHeader.Qos, pk.PacketID
	at, err := l.pipe.Arrive()
	if err != nil {
		return pk, packets.ErrRejectPacket // not acknowledged: the device sends it again
	}
	var mine *double
	if qos == 2 {
		if why := l.unreleased(cl); why != "" {
			l.Failed("device "+cl.ID, why)
			l.sendAway(cl, packets.ErrReceiveMaximum)
			return pk, packets.ErrRejectPacket
		}
		if mine = l.doubles.begin(cl.ID, id); mine == nil {
			return pk, packets.ErrRejectPacket // sent again before it was on disk: the first one will be acknowledged
		}
	}
	sender := l.device(cl)
	if why := sender.over(len(pk.Payload)); why != "" {
		l.Failed("device "+cl.ID, why)
		l.sendAway(cl, packets.ErrMessageRateTooHigh)
		return pk, packets.ErrRejectPacket
	}
	l.shows.show(pk.TopicName, pk.Payload)
	d := &pipeline.Delivery{Sender: cl.ID}
	if topic, ok := strings.CutPrefix(pk.TopicName, forbidden); ok {
		name, _ := base64.RawURLEncoding.DecodeString(topic) // as OnPacketRead wrote it
		from := reading.Origin{Source: l.name, Place: string(name), Raw: pk.Payload}
		d.Rejects = []reading.Reject{from.Reject(at,
			"topic begins with $, or has a wildcard in it, so nothing can be published there")}
	} else if l.sparks.mine(pk.TopicName) {
		l.sparks.take(pk.TopicName, pk.Payload, at, d)
	} else {
		got := l.messages.Decode(payload.Arrived{Topic: pk.TopicName, Payload: pk.Payload, At: at})
		d.Readings, d.Rejects = got.Readings, got.Rejects
		if got.Clock != "" {
			l.Failed("device "+cl.ID, got.Clock)
		}
	}
	l.Arrived(len(d.Readings), len(d.Rejects))
	if qos > 0 {
		sender.acks(cl) // from its first message on
	}
	d.Done = func(err error) { l.committed(cl, qos, id, mine, err) }
	l.pipe.Submit(d)
	return pk, packets.ErrRejectPacket
}

// committed acknowledges a message, or leaves it to the device to send it again.
func (l *listener) committed(cl *mqtt.Client, qos byte, id uint16, mine *double, err error) {
	if err == nil {
		l.Acked()
	}
	if qos == 2 {
		if !l.doubles.end(mine) {
			return // the device began a new session, in which the identifier means something else
		}
		if now, ok := l.server.Clients.Get(cl.ID); ok && now != cl {
			cl = now // the device may have come back on a new connection
		}
	}
	if qos == 0 || err != nil {
		return
	}
	if d, ok := l.devices.Load(cl); ok {
		d.(*device).acks(cl).ack(qos, id)
	} else if !cl.Closed() {
		once := newAcker(cl) // it came back and has sent nothing yet
		once.ack(qos, id)
		once.close()
	}
}

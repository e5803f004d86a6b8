package mqtt

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"net"
	"strings"
	"sync"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/gateway/payload"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/plain"
)

// listener is an MQTT 3.1.1 and 5 server that devices publish to. It distributes
// nothing: nobody can subscribe.
//
// The broker library acknowledges a message as soon as its hook returns, one message
// of a client after the other; a hook that waited for the disk would allow a single
// message per client and commit. So the hook takes the message over, which makes the
// library send no acknowledgement, and the listener sends it when the commit is done.
type listener struct {
	source.Counter
	name string
	mqtt.HookBase
	settings listenerSettings
	messages *payload.Messages
	pipe     *pipeline.Pipeline
	log      *slog.Logger
	server   *mqtt.Server
	ackers   sync.Map // *mqtt.Client → *acker, from a client's first message on
	doubles  doubles
}

func newListener(name string, settings listenerSettings, pipe *pipeline.Pipeline, log *slog.Logger) *listener {
	l := &listener{name: name, settings: settings, pipe: pipe, log: log.With("source", name)}
	l.messages = payload.NewMessages(name, settings.messages)
	l.Change(func(t *source.Tally) { *t = source.Tally{Name: name, Form: "mqtt_listener", Address: settings.address} })
	return l
}

// Run listens until ctx ends.
func (l *listener) Run(ctx context.Context) error {
	caps := mqtt.NewDefaultServerCapabilities()
	caps.MaximumPacketSize = uint32(l.settings.maxPayload) + 1024 // topic and header beside it
	caps.MaximumSessionExpiryInterval = 24 * 60 * 60
	caps.MaximumMessageExpiryInterval = math.MaxInt32
	caps.MaximumClientWritesPending = 64 // nothing is ever sent to a device but answers
	caps.RetainAvailable = 1             // devices that set the flag must not be turned away; nothing is retained
	l.server = mqtt.New(&mqtt.Options{Capabilities: caps, Logger: slog.New(slog.DiscardHandler), SysTopicResendInterval: 3600})
	if err := l.server.AddHook(l, nil); err != nil {
		return fmt.Errorf("source %s: %w", l.name, err)
	}
	open, err := net.Listen("tcp", l.settings.address)
	if err != nil {
		return fmt.Errorf("source %s: listening for MQTT at %s: %w", l.name, l.settings.address, plain.Network(err))
	}
	open = &guard{Listener: open, most: int64(l.settings.maxClients), refuse: func(remote, why string) { l.Failed("connection limit", remote+" was turned away: "+why) }}
	l.Change(func(t *source.Tally) { t.Address = open.Addr().String() })
	if err := l.server.AddListener(listeners.NewNet(l.name, open)); err != nil {
		return fmt.Errorf("source %s: %w", l.name, err)
	}
	if err := l.server.Serve(); err != nil {
		return fmt.Errorf("source %s: %w", l.name, err)
	}
	l.Up(true)
	<-ctx.Done()
	l.Up(false)
	return l.server.Close()
}

// ID names the hook to the library.
func (l *listener) ID() string { return "nexocumula" }

// Provides says which of the library's calls the hook takes. It is asked several times a
// message.
func (l *listener) Provides(b byte) bool {
	switch b {
	case mqtt.OnConnect, mqtt.OnConnectAuthenticate, mqtt.OnACLCheck, mqtt.OnPacketRead, mqtt.OnPublish, mqtt.OnSessionEstablish, mqtt.OnDisconnect:
		return true
	}
	return false
}

// OnConnectAuthenticate lets every device in.
func (l *listener) OnConnectAuthenticate(*mqtt.Client, packets.Packet) bool { return true }

// OnACLCheck lets devices publish and not subscribe.
func (l *listener) OnACLCheck(_ *mqtt.Client, _ string, write bool) bool { return write }

// OnConnect ends the wait for a connection to say who it is.
func (l *listener) OnConnect(cl *mqtt.Client, _ packets.Packet) error {
	if c, ok := cl.Net.Conn.(*guarded); ok {
		c.introduce()
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
	if a, ok := l.ackers.LoadAndDelete(cl); ok {
		a.(*acker).close()
	}
	if err == nil {
		return
	}
	if errors.Is(err, packets.ErrPacketTooLarge) {
		l.reject("device "+cl.ID, fmt.Sprintf("message is larger than max_payload allows, %d bytes; the connection was closed", l.settings.maxPayload), nil)
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
		if mine = l.doubles.begin(cl.ID, id); mine == nil {
			return pk, packets.ErrRejectPacket // sent again before it was on disk: the first one will be acknowledged
		}
	}
	d := &pipeline.Delivery{Sender: cl.ID}
	if topic, ok := strings.CutPrefix(pk.TopicName, forbidden); ok {
		name, _ := base64.RawURLEncoding.DecodeString(topic) // as OnPacketRead wrote it
		from := reading.Origin{Source: l.name, Place: string(name), Raw: pk.Payload}
		d.Rejects = []reading.Reject{from.Reject(at, "topic begins with $, or has a wildcard in it, so nothing can be published there")}
	} else {
		got := l.messages.Decode(payload.Arrived{Topic: pk.TopicName, Payload: pk.Payload, At: at})
		d.Readings, d.Rejects = got.Readings, got.Rejects
		if got.Clock != "" {
			l.Failed("device "+cl.ID, got.Clock)
		}
	}
	l.Arrived(len(d.Readings), len(d.Rejects))
	if qos > 0 {
		if _, had := l.ackers.Load(cl); !had {
			l.ackers.Store(cl, newAcker(cl)) // of this client's own goroutine, as is OnDisconnect
		}
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
	if a, ok := l.ackers.Load(cl); ok {
		a.(*acker).ack(qos, id)
	} else if !cl.Closed() {
		once := newAcker(cl) // it came back and has sent nothing yet
		once.ack(qos, id)
		once.close()
	}
}

// doubles are the QoS 2 messages on their way to disk, by client and packet identifier.
type doubles struct {
	mu    sync.Mutex
	under map[string]map[uint16]*double
}

type double struct {
	client string
	id     uint16
}

// begin is nil when a message with the identifier is on its way already.
func (d *doubles) begin(client string, id uint16) *double {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.under == nil {
		d.under = map[string]map[uint16]*double{}
	}
	if d.under[client][id] != nil {
		return nil
	}
	if d.under[client] == nil {
		d.under[client] = map[uint16]*double{}
	}
	mine := &double{client, id}
	d.under[client][id] = mine
	return mine
}

// end reports whether the message is still one of its client's session.
func (d *doubles) end(mine *double) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	ids := d.under[mine.client]
	if ids[mine.id] != mine {
		return false
	}
	delete(ids, mine.id)
	if len(ids) == 0 {
		delete(d.under, mine.client)
	}
	return true
}

// forget drops what a client has under way.
func (d *doubles) forget(client string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.under, client)
}

package source

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"math"
	"net"
	"sync"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"

	"nexocumula/internal/config"
	"nexocumula/internal/gateway/pipeline"
)

// Listener is an MQTT 3.1.1 and 5 server that devices publish to. It distributes
// nothing: nobody can subscribe.
//
// The broker library acknowledges a message as soon as its hook returns, one message
// of a client after the other; a hook that waited for the disk would allow a single
// message per client and commit. So the hook takes the message over, which makes the
// library send no acknowledgement, and the listener sends it when the commit is done.
type Listener struct {
	counter
	mqtt.HookBase
	settings config.Listener
	messages messages
	arrival  arrival
	pipe     *pipeline.Pipeline
	log      *slog.Logger
	server   *mqtt.Server
	ackers   sync.Map // *mqtt.Client → *acker
	doubles  doubles
}

// NewListener makes a listener; Run opens it.
func NewListener(name string, settings config.Listener, pipe *pipeline.Pipeline, log *slog.Logger) *Listener {
	l := &Listener{settings: settings, pipe: pipe, log: log.With("source", name)}
	l.messages = messages{source: name, forms: settings.Messages}
	l.tally = Tally{Name: name, Form: "mqtt_listener", Address: settings.Address}
	return l
}

// Run listens until ctx ends.
func (l *Listener) Run(ctx context.Context) error {
	caps := mqtt.NewDefaultServerCapabilities()
	caps.MaximumPacketSize = uint32(l.settings.MaxPayload) + 1024 // topic and header beside it
	caps.MaximumSessionExpiryInterval = 24 * 60 * 60
	caps.MaximumMessageExpiryInterval = math.MaxInt32
	caps.RetainAvailable = 1 // devices that set the flag must not be turned away; nothing is retained
	l.server = mqtt.New(&mqtt.Options{Capabilities: caps, Logger: slog.New(slog.DiscardHandler), SysTopicResendInterval: 3600})
	if err := l.server.AddHook(l, nil); err != nil {
		return fmt.Errorf("source %s: %w", l.tally.Name, err)
	}
	open, err := net.Listen("tcp", l.settings.Address)
	if err != nil {
		return fmt.Errorf("source %s: listening for MQTT: %w", l.tally.Name, err)
	}
	l.change(func(t *Tally) { t.Address = open.Addr().String() })
	if err := l.server.AddListener(listeners.NewNet(l.tally.Name, open)); err != nil {
		return fmt.Errorf("source %s: %w", l.tally.Name, err)
	}
	if err := l.server.Serve(); err != nil {
		return fmt.Errorf("source %s: %w", l.tally.Name, err)
	}
	l.up(true)
	<-ctx.Done()
	l.up(false)
	return l.server.Close()
}

// ID names the hook to the library.
func (l *Listener) ID() string { return "nexocumula" }

// Provides says which of the library's calls the hook takes.
func (l *Listener) Provides(b byte) bool {
	return bytes.Contains([]byte{mqtt.OnConnectAuthenticate, mqtt.OnACLCheck, mqtt.OnPublish, mqtt.OnSessionEstablish, mqtt.OnDisconnect}, []byte{b})
}

// OnConnectAuthenticate lets every device in.
func (l *Listener) OnConnectAuthenticate(*mqtt.Client, packets.Packet) bool { return true }

// OnACLCheck lets devices publish and not subscribe.
func (l *Listener) OnACLCheck(_ *mqtt.Client, _ string, write bool) bool { return write }

// OnSessionEstablish starts the acknowledging of a client.
func (l *Listener) OnSessionEstablish(cl *mqtt.Client, _ packets.Packet) {
	if !cl.Net.Inline {
		l.ackers.Store(cl, newAcker(cl))
	}
}

// OnDisconnect ends it.
func (l *Listener) OnDisconnect(cl *mqtt.Client, err error, _ bool) {
	if a, ok := l.ackers.LoadAndDelete(cl); ok {
		a.(*acker).close()
	}
	if err != nil && cl.StopCause() != nil && cl.StopCause() != packets.CodeDisconnect {
		l.failed("device "+cl.ID, fmt.Sprintf("connection from %s lost: %v", cl.Net.Remote, cl.StopCause()))
	}
}

// OnPublish takes a message over.
func (l *Listener) OnPublish(cl *mqtt.Client, pk packets.Packet) (packets.Packet, error) {
	if cl.Net.Inline {
		return pk, packets.ErrRejectPacket // the library's own $SYS topics
	}
	qos, id := pk.FixedHeader.Qos, pk.PacketID
	if qos == 2 && !l.doubles.begin(cl.ID, id) {
		return pk, packets.ErrRejectPacket // sent again before it was on disk: the first one will be acknowledged
	}
	d := &pipeline.Delivery{}
	d.Readings, d.Rejects = l.messages.decode(pk.TopicName, pk.Payload, l.arrival.next())
	l.arrived(len(d.Readings), len(d.Rejects))
	d.Done = func(err error) { l.committed(cl, qos, id, err) }
	l.pipe.Submit(d)
	return pk, packets.ErrRejectPacket
}

// committed acknowledges a message, or leaves it to the device to send it again.
func (l *Listener) committed(cl *mqtt.Client, qos byte, id uint16, err error) {
	if err == nil {
		l.acked()
	}
	if qos == 2 {
		l.doubles.end(cl.ID, id)
		if now, ok := l.server.Clients.Get(cl.ID); ok {
			cl = now // the device may have come back on a new connection
		}
	}
	if a, ok := l.ackers.Load(cl); ok && qos > 0 && err == nil {
		a.(*acker).ack(qos, id)
	}
}

// doubles are the QoS 2 messages on their way to disk, by client and packet id.
type doubles struct {
	mu    sync.Mutex
	under map[double]struct{}
}

type double struct {
	client string
	id     uint16
}

func (d *doubles) begin(client string, id uint16) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if _, ok := d.under[double{client, id}]; ok {
		return false
	}
	if d.under == nil {
		d.under = map[double]struct{}{}
	}
	d.under[double{client, id}] = struct{}{}
	return true
}

func (d *doubles) end(client string, id uint16) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.under, double{client, id})
}

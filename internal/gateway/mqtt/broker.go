package mqtt

import (
	"context"
	"crypto/tls"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"nexocumula/internal/gateway/payload"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/plain"
)

// broker is a client of an existing MQTT broker, with a session that outlives the
// connection: what arrives there while we are away is delivered afterwards. broker_v3.go
// and broker_v5.go speak the two versions of the protocol.
type broker struct {
	source.Counter
	name     string
	settings brokerSettings
	messages *payload.Messages
	sparks   *sparks // nil: none
	pipe     *pipeline.Pipeline
	acks     acks
	log      *slog.Logger
}

func newBroker(name string, settings brokerSettings, pipe *pipeline.Pipeline, log *slog.Logger) *broker {
	b := &broker{name: name, settings: settings, pipe: pipe, acks: acks{wake: make(chan struct{}, 1)}, log: log.With("source", name)}
	b.messages = payload.NewMessages(name, settings.messages)
	b.sparks = newSparks(name, settings.sparkplug, &b.Counter, pipe)
	b.Change(func(t *source.Tally) {
		*t = source.Tally{Name: name, Form: "mqtt_broker", Address: settings.address.String()}
	})
	return b
}

const (
	connectWithin    = 10 * time.Second
	keepAlive        = 30 * time.Second
	firstRetry       = 2 * time.Second
	maxReconnectWait = 30 * time.Second
	farewell         = time.Second
)

// Run stays connected, as well as it can, until ctx ends.
func (b *broker) Run(ctx context.Context) error {
	acking := make(chan struct{})
	go func() { defer close(acking); b.acks.run(ctx) }()
	defer func() { <-acking }()
	defer b.Up(false)
	if b.sparks != nil {
		go b.sparks.watch(ctx)
	}
	if b.settings.version == 5 {
		return b.runV5(ctx)
	}
	return b.runV3(ctx)
}

// place is the broker, for people.
func (b *broker) place() string { return b.settings.address.String() }

// tlsNow are the certificates for a connection to be made now; nil without TLS.
func (b *broker) tlsNow() *tls.Config {
	if b.settings.tls == nil {
		return nil
	}
	return b.settings.tls.Client(b.settings.server)
}

func (b *broker) lost(err error) {
	b.Up(false)
	b.Failed(b.place(), fmt.Sprintf("connection lost: %v", plain.Network(err)))
	b.log.Warn("connection to the broker lost; reconnecting", "address", b.place(), "error", err)
}

// granted reports whether the broker grants all topics; each that it does not is a fault.
func (b *broker) granted(codes map[string]byte) bool {
	all := true
	for topic, code := range codes {
		if code >= notGranted {
			all = false
			b.Failed("topic "+topic, fmt.Sprintf("the broker refuses the subscription (code 0x%02x%s); may user %q read it there?", code, inWords(code), b.settings.user))
			b.log.Error("the broker refuses a subscription", "topic", topic, "code", code)
		}
	}
	return all
}

// arrival is a message from the broker.
type arrival struct {
	topic    string
	payload  []byte
	retained bool
	ack      func()
}

// take is called for one message after the other.
func (b *broker) take(m arrival) {
	at, err := b.pipe.Arrive()
	if err != nil {
		return // not acknowledged: the broker keeps it
	}
	d := &pipeline.Delivery{Sender: b, Done: func(err error) {
		if err == nil {
			b.acks.add(func() { m.ack(); b.Acked() })
		}
	}}
	if b.sparks.mine(m.topic) {
		d.Readings, d.Rejects = b.sparks.take(m.topic, m.payload, at)
	} else {
		got := b.messages.Decode(payload.Arrived{Topic: m.topic, Payload: m.payload, At: at, Retained: m.retained})
		d.Readings, d.Rejects = got.Readings, got.Rejects
		if got.Clock != "" {
			b.Failed("topic "+m.topic, got.Clock)
		}
	}
	b.Arrived(len(d.Readings), len(d.Rejects))
	b.pipe.Submit(d)
}

// acks are acknowledgements on their way to a broker, in order. The library may block on
// one, which must not keep the pipeline from committing what others sent.
type acks struct {
	mu      sync.Mutex
	waiting []func()
	wake    chan struct{}
}

func (a *acks) add(ack func()) {
	a.mu.Lock()
	a.waiting = append(a.waiting, ack)
	a.mu.Unlock()
	select {
	case a.wake <- struct{}{}:
	default:
	}
}

func (a *acks) run(ctx context.Context) {
	for {
		select {
		case <-a.wake:
		case <-ctx.Done():
			return
		}
		a.mu.Lock()
		now := a.waiting
		a.waiting = nil
		a.mu.Unlock()
		for _, ack := range now {
			if ctx.Err() != nil {
				return // the broker sends what was not acknowledged again
			}
			ack()
		}
	}
}

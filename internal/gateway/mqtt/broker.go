package mqtt

import (
	"context"
	"crypto/tls"
	"fmt"
	"log/slog"
	"sync"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"

	"nexocumula/internal/event"
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
	log      *slog.Logger

	takeovers takeovers
	hungAfter time.Duration           // see runV3
	open      paho.OpenConnectionFunc // nil, but in tests
}

func newBroker(name string, settings brokerSettings, pipe *pipeline.Pipeline, log *slog.Logger) *broker {
	settings.clientID = settings.clientFor(name)
	b := &broker{
		name:      name,
		settings:  settings,
		pipe:      pipe,
		log:       log.With("source", name),
		hungAfter: maxReconnectWait + connectWithin + 20*time.Second,
	}
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
	defer b.Up(false)
	if b.sparks != nil {
		go b.sparks.watch(ctx)
	}
	if b.settings.version == 5 {
		return b.acking(ctx, b.runV5)
	}
	for ctx.Err() == nil { // once, unless a client hangs
		if err := b.acking(ctx, b.runV3); err != nil {
			return err
		}
	}
	return nil
}

// acking runs a client, and beside it what acknowledges its messages.
func (b *broker) acking(ctx context.Context, run func(context.Context, *acks) error) error {
	ctx, stop := context.WithCancel(ctx)
	a := &acks{wake: make(chan struct{}, 1)}
	ended := make(chan struct{})
	go func() { defer close(ended); a.run(ctx) }()
	err := run(ctx, a)
	stop()
	select {
	case <-ended:
	case <-time.After(farewell): // it waits for a client that is gone; what it has not acknowledged comes again
	}
	return err
}

// place returns the broker, for people.
func (b *broker) place() string { return b.settings.address.String() }

// tlsNow returns the certificates for a connection to be made now; nil without TLS.
func (b *broker) tlsNow() *tls.Config {
	if b.settings.tls == nil {
		return nil
	}
	return b.settings.tls.Client(b.settings.server)
}

func (b *broker) lost(err error) {
	b.Up(false)
	b.Failed(b.place(),
		fmt.Sprintf("connection lost: %v%s", plain.Network(err), b.takeovers.lost(time.Now(), b.settings.clientID)))
	event.BrokerLost.To(b.log, "address", b.place(), "error", err)
}

// granted reports whether the broker grants all topics; each that it does not is a fault.
func (b *broker) granted(codes map[string]byte) bool {
	all := true
	for topic, code := range codes {
		if code >= notGranted {
			all = false
			b.Failed("topic "+topic,
				fmt.Sprintf("the broker refuses the subscription (code 0x%02x%s); may user %q read it there?", code,
					inWords(code), b.settings.user))
			event.BrokerRefused.To(b.log, "topic", topic, "code", code)
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
	acks     *acks // of the client that it came to
}

// take is called for one message after the other.
func (b *broker) take(m arrival) {
	at, err := b.pipe.Arrive()
	if err != nil {
		return // not acknowledged: the broker keeps it
	}
	d := &pipeline.Delivery{Sender: b, Done: func(err error) {
		if err == nil {
			m.acks.add(func() { m.ack(); b.Acked() })
		}
	}}
	if b.sparks.mine(m.topic) {
		b.sparks.take(m.topic, m.payload, at, d)
	} else {
		got := b.messages.Decode(payload.Arrived{Topic: m.topic, Payload: m.payload, At: at, Retained: m.retained})
		d.Readings, d.Rejects = got.Readings, got.Rejects
		b.Ignored(got.Ignored)
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

package mqtt

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"

	"nexocumula/internal/gateway/payload"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/plain"
)

// broker is a client of an existing MQTT broker, with a session that outlives the
// connection: what arrives there while we are away is delivered afterwards.
type broker struct {
	source.Counter
	name     string
	settings brokerSettings
	messages *payload.Messages
	pipe     *pipeline.Pipeline
	acks     acks
	log      *slog.Logger
}

func newBroker(name string, settings brokerSettings, pipe *pipeline.Pipeline, log *slog.Logger) *broker {
	b := &broker{name: name, settings: settings, pipe: pipe, acks: acks{wake: make(chan struct{}, 1)}, log: log.With("source", name)}
	b.messages = payload.NewMessages(name, settings.messages)
	b.Change(func(t *source.Tally) { *t = source.Tally{Name: name, Form: "mqtt_broker", Address: settings.address} })
	return b
}

const maxReconnectWait = 30 * time.Second

// Run stays connected, as well as it can, until ctx ends.
func (b *broker) Run(ctx context.Context) error {
	options := paho.NewClientOptions().
		AddBroker(b.settings.address).SetClientID(b.settings.clientID).
		SetUsername(b.settings.user).SetPassword(b.settings.password).
		SetCleanSession(false).SetAutoAckDisabled(true).SetOrderMatters(true).
		SetConnectRetry(true).SetConnectRetryInterval(2 * time.Second).
		SetAutoReconnect(true).SetMaxReconnectInterval(maxReconnectWait).
		SetConnectTimeout(10 * time.Second).SetKeepAlive(30 * time.Second).
		SetDefaultPublishHandler(b.take).
		SetOnConnectHandler(b.subscribe).
		SetConnectionLostHandler(func(_ paho.Client, err error) {
			b.Up(false)
			b.Failed(b.settings.address, fmt.Sprintf("connection lost: %v", plain.Network(err)))
			b.log.Warn("connection to the broker lost; reconnecting", "address", b.settings.address, "error", err)
		}).
		SetConnectionNotificationHandler(func(_ paho.Client, n paho.ConnectionNotification) {
			if f, ok := n.(paho.ConnectionNotificationFailed); ok {
				b.Failed(b.settings.address, fmt.Sprintf("connecting: %v", plain.Network(f.Reason)))
			}
		})
	acking := make(chan struct{})
	go func() { defer close(acking); b.acks.run(ctx) }()
	defer func() { <-acking }()
	client := paho.NewClient(options)
	client.Connect()
	<-ctx.Done()
	b.Up(false)
	client.Disconnect(250)
	return nil
}

// subscribe asks for every topic the configuration names, at QoS 1.
func (b *broker) subscribe(client paho.Client) {
	filters := map[string]byte{}
	for _, m := range b.settings.messages {
		filters[m.Topic.Filter()] = 1
	}
	token := client.SubscribeMultiple(filters, b.take)
	go func() {
		token.Wait()
		if err := token.Error(); err != nil {
			b.Failed(b.settings.address, fmt.Sprintf("subscribing: %v", err))
			b.log.Error("the broker could not be asked for the topics", "error", err)
			return
		}
		b.Up(b.granted(token))
	}()
}

// notGranted is the SUBACK code of a refused subscription (MQTT 3.1.1, 3.9.3).
const notGranted = 0x80

// granted reports whether the broker grants all topics; each that it does not is a fault.
func (b *broker) granted(token paho.Token) bool {
	all := true
	if sub, ok := token.(*paho.SubscribeToken); ok {
		for topic, code := range sub.Result() {
			if code >= notGranted {
				all = false
				b.Failed("topic "+topic, fmt.Sprintf("the broker refuses the subscription (code 0x%02x); may user %q read it there?", code, b.settings.user))
				b.log.Error("the broker refuses a subscription", "topic", topic, "code", code)
			}
		}
	}
	return all
}

// take is called for one message after the other.
func (b *broker) take(_ paho.Client, m paho.Message) {
	arrived, err := b.pipe.Arrive()
	if err != nil {
		return // not acknowledged: the broker keeps it
	}
	d := &pipeline.Delivery{Sender: b, Done: func(err error) {
		if err == nil {
			b.acks.add(func() { m.Ack(); b.Acked() })
		}
	}}
	got := b.messages.Decode(payload.Arrived{Topic: m.Topic(), Payload: m.Payload(), At: arrived, Retained: m.Retained()})
	d.Readings, d.Rejects = got.Readings, got.Rejects
	if got.Clock != "" {
		b.Failed("topic "+m.Topic(), got.Clock)
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

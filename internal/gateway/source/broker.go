package source

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"

	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/gateway/pipeline"
)

// Broker is a client of an existing MQTT broker, with a session that outlives the
// connection: what arrives there while we are away is delivered afterwards.
type Broker struct {
	counter
	settings config.Broker
	messages messages
	arrival  arrival
	pipe     *pipeline.Pipeline
	log      *slog.Logger
}

// NewBroker makes a client; Run connects it.
func NewBroker(name string, settings config.Broker, pipe *pipeline.Pipeline, log *slog.Logger) *Broker {
	b := &Broker{settings: settings, pipe: pipe, log: log.With("source", name)}
	b.messages = messages{source: name, forms: settings.Messages}
	b.tally = Tally{Name: name, Form: "mqtt_broker", Address: settings.Address}
	return b
}

const maxReconnectWait = 30 * time.Second

// Run stays connected, as well as it can, until ctx ends.
func (b *Broker) Run(ctx context.Context) error {
	options := paho.NewClientOptions().
		AddBroker(b.settings.Address).SetClientID(b.settings.ClientID).
		SetUsername(b.settings.User).SetPassword(b.settings.Password).
		SetCleanSession(false).SetAutoAckDisabled(true).SetOrderMatters(true).
		SetConnectRetry(true).SetConnectRetryInterval(2 * time.Second).
		SetAutoReconnect(true).SetMaxReconnectInterval(maxReconnectWait).
		SetConnectTimeout(10 * time.Second).SetKeepAlive(30 * time.Second).
		SetDefaultPublishHandler(b.take).
		SetOnConnectHandler(b.subscribe).
		SetConnectionLostHandler(func(_ paho.Client, err error) {
			b.up(false)
			b.failed(b.settings.Address, fmt.Sprintf("connection lost: %v", err))
			b.log.Warn("connection to the broker lost; reconnecting", "address", b.settings.Address, "error", err)
		}).
		SetConnectionNotificationHandler(func(_ paho.Client, n paho.ConnectionNotification) {
			if f, ok := n.(paho.ConnectionNotificationFailed); ok {
				b.failed(b.settings.Address, fmt.Sprintf("connecting: %v", f.Reason))
			}
		})
	client := paho.NewClient(options)
	client.Connect()
	<-ctx.Done()
	b.up(false)
	client.Disconnect(250)
	return nil
}

// subscribe asks for every topic the configuration names, at QoS 1.
func (b *Broker) subscribe(client paho.Client) {
	filters := map[string]byte{}
	for _, m := range b.settings.Messages {
		filters[m.Topic.Filter()] = 1
	}
	token := client.SubscribeMultiple(filters, b.take)
	go func() {
		token.Wait()
		if err := token.Error(); err != nil {
			b.failed(b.settings.Address, fmt.Sprintf("subscribing: %v", err))
			b.log.Error("the broker refused the subscription", "error", err)
			return
		}
		b.up(true)
	}()
}

// take is called for one message after the other and must not wait for the disk.
func (b *Broker) take(_ paho.Client, m paho.Message) {
	arrived := b.arrival.next()
	d := &pipeline.Delivery{Done: func(err error) {
		if err == nil {
			m.Ack()
			b.acked()
		}
	}}
	if r := b.messages.route(m.Topic()); m.Retained() && r.form != nil && r.form.Time == nil {
		// The broker keeps it from who knows when: stamped with now it would be a lie.
		from := reading.Origin{Source: b.messages.source, Place: m.Topic(), Raw: m.Payload()}
		d.Rejects = []reading.Reject{from.Reject(arrived, "message was retained by the broker and has no time of its own, so its age is unknown")}
	} else {
		d.Readings, d.Rejects = b.messages.decode(m.Topic(), m.Payload(), arrived)
	}
	b.arrived(len(d.Readings), len(d.Rejects))
	b.pipe.Submit(d)
}

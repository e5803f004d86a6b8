package mqtt

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"math"
	"net"
	"net/url"
	"time"

	"github.com/eclipse/paho.golang/autopaho"
	"github.com/eclipse/paho.golang/packets"
	"github.com/eclipse/paho.golang/paho"

	"nexocumula/internal/event"
	"nexocumula/internal/gateway/sparkplug"
	"nexocumula/internal/plain"
)

// runV5 speaks MQTT 5.
func (b *broker) runV5(ctx context.Context, acks *acks) error {
	unacked := b.settings.unacked
	config := autopaho.ClientConfig{
		ServerUrls:            []*url.URL{b.settings.address},
		KeepAlive:             uint16(keepAlive.Seconds()),
		SessionExpiryInterval: math.MaxUint32, // it stays for as long as the broker keeps it
		ConnectUsername:       b.settings.user,
		ConnectPassword:       []byte(b.settings.password),
		ConnectTimeout:        connectWithin,
		ReconnectBackoff:      autopaho.NewExponentialBackoff(firstRetry, maxReconnectWait, firstRetry, 2),
		AttemptConnection:     b.dial,
		Errors:                event.Printer{Log: b.log},
		PahoErrors:            event.Printer{Log: b.log},
		ConnectPacketBuilder: func(c *paho.Connect, _ *url.URL) (*paho.Connect, error) {
			if c.Properties == nil {
				c.Properties = &paho.ConnectProperties{}
			}
			c.Properties.ReceiveMaximum = &unacked
			if b.sparks != nil {
				will := b.sparks.will()
				c.WillMessage = &paho.WillMessage{Topic: will.Topic, Payload: will.Payload, QoS: 1, Retain: will.Retain}
			}
			return c, nil
		},
		OnConnectionUp: func(cm *autopaho.ConnectionManager, _ *paho.Connack) {
			b.takeovers.connected(time.Now())
			go b.subscribeV5(ctx, cm)
		},
		OnConnectError: func(err error) { b.Failed(b.place(), "connecting: "+b.unreached(ctx, err)) },
		ClientConfig: paho.ClientConfig{
			ClientID:                   b.settings.clientID,
			EnableManualAcknowledgment: true,
			SendAcksInterval:           50 * time.Millisecond,
			OnPublishReceived: []func(paho.PublishReceived) (bool, error){func(m paho.PublishReceived) (bool, error) {
				b.take(arrival{m.Packet.Topic, m.Packet.Payload, m.Packet.Retain, func() {
					_ = m.Client.Ack(m.Packet) // of a connection that is gone: the broker sends the message again
				}, acks})
				return true, nil
			}},
			OnClientError: b.lost,
			OnServerDisconnect: func(d *paho.Disconnect) {
				b.lost(fmt.Errorf("the broker ends the session of client %q (code 0x%02x%s)", b.settings.clientID,
					d.ReasonCode, inWords(d.ReasonCode)))
			},
		},
	}
	connected, disconnect := context.WithCancel(context.WithoutCancel(ctx)) // it outlives ctx by a farewell
	defer disconnect()
	manager, err := autopaho.NewConnection(connected, config)
	if err != nil {
		return fmt.Errorf("source %s: %w", b.name, err)
	}
	<-ctx.Done()
	if b.sparks != nil && b.Tally().Up {
		bye, soon := context.WithTimeout(connected, farewell)
		will := b.sparks.will()
		_, _ = manager.Publish(bye, &paho.Publish{
			Topic:   will.Topic,
			Payload: will.Payload,
			QoS:     1,
			Retain:  will.Retain,
		}) // else the broker says so when it misses us
		soon()
	}
	disconnect()
	<-manager.Done()
	return nil
}

func (b *broker) dial(ctx context.Context, _ autopaho.ClientConfig, at *url.URL) (net.Conn, error) {
	var dialer interface {
		DialContext(ctx context.Context, network, address string) (net.Conn, error)
	} = &net.Dialer{}
	if config := b.tlsNow(); config != nil {
		dialer = &tls.Dialer{Config: config}
	}
	conn, err := dialer.DialContext(ctx, "tcp", at.Host)
	if err != nil {
		return nil, err
	}
	return packets.NewThreadSafeConn(conn), nil
}

// subscribeV5 asks for every topic the configuration names, at QoS 1. What is retained
// comes once, when the subscription is new.
func (b *broker) subscribeV5(ctx context.Context, manager *autopaho.ConnectionManager) {
	filters := b.settings.filters()
	var ask paho.Subscribe
	for _, filter := range filters {
		one := paho.SubscribeOptions{Topic: filter, QoS: 1} // the flag then tells what was kept from what comes as it is sent
		if b.settings.share == "" {
			one.RetainHandling = 1
		}
		ask.Subscriptions = append(ask.Subscriptions, one)
	}
	answer, err := manager.Subscribe(ctx, &ask)
	if answer == nil || len(answer.Reasons) != len(filters) {
		if ctx.Err() == nil {
			b.Failed(b.place(), fmt.Sprintf("subscribing: %v", err))
			event.BrokerUnasked.To(b.log, "error", err)
		}
		return
	}
	codes := map[string]byte{}
	for i, filter := range filters {
		codes[filter] = answer.Reasons[i]
	}
	b.Up(b.granted(codes))
	if b.sparks != nil {
		b.sparks.connected(func(m sparkplug.Message) {
			_, err := manager.Publish(ctx, &paho.Publish{
				Topic:   m.Topic,
				Payload: m.Payload,
				QoS:     qosOf(m),
				Retain:  m.Retain,
			})
			if err != nil && ctx.Err() == nil {
				b.Failed("topic "+m.Topic, fmt.Sprintf("sending: %v", plain.Network(err)))
			}
		})
	}
}

// refusal is for people why no connection came about.
func refusal(err error) string {
	if ack, ok := errors.AsType[*autopaho.ConnackError](err); ok {
		text := fmt.Sprintf("the broker refuses (code 0x%02x%s)", ack.ReasonCode, inWords(ack.ReasonCode))
		if ack.Reason != "" {
			text += ": " + ack.Reason
		}
		return text
	}
	return plain.Network(err).Error()
}

package mqtt

import (
	"context"
	"crypto/tls"
	"fmt"
	"net/url"
	"sync"
	"sync/atomic"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"

	"nexocumula/internal/event"
	"nexocumula/internal/gateway/sparkplug"
)

// notGranted is the least code of a refused subscription (MQTT 3.1.1, 3.9.3; 5.0, 2.4).
const notGranted = 0x80

// librarySays has the library's log, which is one for all its clients, go where that of the first of them goes.
var librarySays sync.Once

// runV3 speaks MQTT 3.1.1. It returns when ctx ends, or when the client was not connected for a while
// and did not even try: then it hangs, and another must take its place.
func (b *broker) runV3(ctx context.Context, acks *acks) error {
	librarySays.Do(func() {
		log := event.Printer{Log: b.log.With("library", "mqtt 3.1.1")}
		paho.CRITICAL, paho.ERROR, paho.WARN = log, log, log
	})
	var tried atomic.Int64 // when it last was connected, or tried to be
	tried.Store(time.Now().UnixNano())
	take := func(_ paho.Client, m paho.Message) {
		b.take(arrival{m.Topic(), m.Payload(), m.Retained(), m.Ack, acks})
	}
	options := paho.NewClientOptions().
		AddBroker(b.place()).SetClientID(b.settings.clientID).
		SetUsername(b.settings.user).SetPassword(b.settings.password).
		SetProtocolVersion(4).
		SetCleanSession(false).SetAutoAckDisabled(true).SetOrderMatters(true).
		SetConnectRetry(true).SetConnectRetryInterval(firstRetry).
		SetAutoReconnect(true).SetMaxReconnectInterval(maxReconnectWait).
		SetConnectTimeout(connectWithin).SetKeepAlive(keepAlive).
		SetConnectionAttemptHandler(func(*url.URL, *tls.Config) *tls.Config {
			tried.Store(time.Now().UnixNano())
			return b.tlsNow()
		}).
		SetDefaultPublishHandler(take).
		SetOnConnectHandler(func(c paho.Client) {
			b.takeovers.connected(time.Now())
			b.subscribeV3(c, take)
		}).
		SetConnectionLostHandler(func(_ paho.Client, err error) { b.lost(err) }).
		SetConnectionNotificationHandler(func(_ paho.Client, n paho.ConnectionNotification) {
			if f, ok := n.(paho.ConnectionNotificationFailed); ok {
				b.Failed(b.place(), "connecting: "+b.unreached(ctx, f.Reason))
			}
		})
	if b.sparks != nil {
		will := b.sparks.will()
		options.SetBinaryWill(will.Topic, will.Payload, 1, will.Retain)
	}
	if b.open != nil {
		options.SetCustomOpenConnectionFn(b.open)
	}
	client := paho.NewClient(options)
	client.Connect()
	look := time.NewTicker(b.hungAfter / 10)
	defer look.Stop()
	for ctx.Err() == nil {
		select {
		case now := <-look.C:
			if client.IsConnectionOpen() {
				tried.Store(now.UnixNano())
			} else if now.UnixNano()-tried.Load() > int64(b.hungAfter) {
				b.Failed(b.place(), "the client did not connect again; another takes its place")
				event.BrokerHangs.To(b.log, "address", b.place())
				go client.Disconnect(0)
				return nil
			}
		case <-ctx.Done():
		}
	}
	if b.sparks != nil && client.IsConnectionOpen() {
		bye := b.sparks.will()
		client.Publish(bye.Topic, 1, bye.Retain, bye.Payload).WaitTimeout(farewell)
	}
	client.Disconnect(250)
	return nil
}

// subscribeV3 asks for every topic the configuration names, at QoS 1.
func (b *broker) subscribeV3(client paho.Client, take paho.MessageHandler) {
	filters := map[string]byte{}
	for _, filter := range b.settings.filters() {
		filters[filter] = 1
	}
	token := client.SubscribeMultiple(filters, take)
	go func() {
		token.Wait()
		if err := token.Error(); err != nil {
			b.Failed(b.place(), fmt.Sprintf("subscribing: %v", err))
			event.BrokerUnasked.To(b.log, "error", err)
			return
		}
		if sub, ok := token.(*paho.SubscribeToken); ok {
			b.Up(b.granted(sub.Result()))
			if b.sparks != nil {
				b.sparks.connected(func(m sparkplug.Message) { client.Publish(m.Topic, qosOf(m), m.Retain, m.Payload) })
			}
		}
	}()
}

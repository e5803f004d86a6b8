package mqtt

import (
	"context"
	"crypto/tls"
	"fmt"
	"net/url"

	paho "github.com/eclipse/paho.mqtt.golang"

	"nexocumula/internal/gateway/sparkplug"
	"nexocumula/internal/plain"
)

// notGranted is the least code of a refused subscription (MQTT 3.1.1, 3.9.3; 5.0, 2.4).
const notGranted = 0x80

// runV3 speaks MQTT 3.1.1.
func (b *broker) runV3(ctx context.Context) error {
	options := paho.NewClientOptions().
		AddBroker(b.place()).SetClientID(b.settings.clientID).
		SetUsername(b.settings.user).SetPassword(b.settings.password).
		SetProtocolVersion(4).
		SetCleanSession(false).SetAutoAckDisabled(true).SetOrderMatters(true).
		SetConnectRetry(true).SetConnectRetryInterval(firstRetry).
		SetAutoReconnect(true).SetMaxReconnectInterval(maxReconnectWait).
		SetConnectTimeout(connectWithin).SetKeepAlive(keepAlive).
		SetConnectionAttemptHandler(func(*url.URL, *tls.Config) *tls.Config { return b.tlsNow() }).
		SetDefaultPublishHandler(b.takeV3).
		SetOnConnectHandler(b.subscribeV3).
		SetConnectionLostHandler(func(_ paho.Client, err error) { b.lost(err) }).
		SetConnectionNotificationHandler(func(_ paho.Client, n paho.ConnectionNotification) {
			if f, ok := n.(paho.ConnectionNotificationFailed); ok {
				b.Failed(b.place(), fmt.Sprintf("connecting: %v", plain.Network(f.Reason)))
			}
		})
	if b.sparks != nil {
		will := b.sparks.will()
		options.SetBinaryWill(will.Topic, will.Payload, 1, will.Retain)
	}
	client := paho.NewClient(options)
	client.Connect()
	<-ctx.Done()
	if b.sparks != nil && client.IsConnectionOpen() {
		bye := b.sparks.will()
		client.Publish(bye.Topic, 1, bye.Retain, bye.Payload).WaitTimeout(farewell)
	}
	client.Disconnect(250)
	return nil
}

// subscribeV3 asks for every topic the configuration names, at QoS 1.
func (b *broker) subscribeV3(client paho.Client) {
	filters := map[string]byte{}
	for _, filter := range b.settings.filters() {
		filters[filter] = 1
	}
	token := client.SubscribeMultiple(filters, b.takeV3)
	go func() {
		token.Wait()
		if err := token.Error(); err != nil {
			b.Failed(b.place(), fmt.Sprintf("subscribing: %v", err))
			b.log.Error("the broker could not be asked for the topics", "error", err)
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

func (b *broker) takeV3(_ paho.Client, m paho.Message) {
	b.take(arrival{m.Topic(), m.Payload(), m.Retained(), m.Ack})
}

package overmqtt

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"sync/atomic"
	"time"

	"github.com/eclipse/paho.golang/packets"
	v5 "github.com/eclipse/paho.golang/paho"
	v3 "github.com/eclipse/paho.mqtt.golang"

	"nexocumula/internal/plain"
)

// message is one that is published, at QoS 1.
type message struct {
	topic   string
	payload []byte
	retain  bool
}

// session says what a connection begins with.
type session struct {
	will    message
	filters []string
	take    func(topic string, payload []byte)
}

// connection is one to a broker. Publish returns once the broker has acknowledged all, which go out in order.
type connection interface {
	publish(ctx context.Context, all []message) error
	up() bool
	close()
}

const (
	connectWithin = 10 * time.Second
	keepAlive     = 30 * time.Second
)

// connect connects to the broker; session may be nil.
func (s Settings) connect(ctx context.Context, with *session) (connection, error) {
	if s.version == 5 {
		return s.connectV5(ctx, with)
	}
	return s.connectV3(ctx, with)
}

// tlsNow returns the certificates for a connection to be made now; nil without TLS.
func (s Settings) tlsNow() *tls.Config {
	if s.tls == nil {
		return nil
	}
	return s.tls.Client(s.server)
}

// overV3 is a connection by MQTT 3.1.1.
type overV3 struct{ v3.Client }

func (s Settings) connectV3(ctx context.Context, with *session) (connection, error) {
	options := v3.NewClientOptions().AddBroker(s.address.String()).SetClientID(s.clientID).SetUsername(s.user).SetPassword(s.password).
		SetProtocolVersion(4).SetCleanSession(true).SetAutoReconnect(false).SetConnectRetry(false).SetConnectTimeout(connectWithin).
		SetKeepAlive(keepAlive).SetOrderMatters(true)
	if c := s.tlsNow(); c != nil {
		options.SetTLSConfig(c)
	}
	if with != nil {
		options.SetBinaryWill(with.will.topic, with.will.payload, 1, with.will.retain)
		options.SetDefaultPublishHandler(func(_ v3.Client, m v3.Message) { with.take(m.Topic(), m.Payload()) })
	}
	c := overV3{v3.NewClient(options)}
	if err := wait(ctx, c.Connect()); err != nil {
		c.close()
		return nil, fmt.Errorf("no connection to the broker: %w", plain.Network(err))
	}
	if with != nil {
		filters := map[string]byte{}
		for _, f := range with.filters {
			filters[f] = 1
		}
		if err := wait(ctx, c.SubscribeMultiple(filters, nil)); err != nil {
			c.close()
			return nil, fmt.Errorf("the broker does not take a subscription: %w", err)
		}
	}
	return c, nil
}

// wait waits for what a token stands for.
func wait(ctx context.Context, t v3.Token) error {
	select {
	case <-t.Done():
		return t.Error()
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (c overV3) up() bool { return c.IsConnectionOpen() }
func (c overV3) close()   { c.Disconnect(100) }

func (c overV3) publish(ctx context.Context, all []message) error {
	tokens := make([]v3.Token, len(all))
	for i, m := range all {
		tokens[i] = c.Publish(m.topic, 1, m.retain, m.payload)
	}
	for _, t := range tokens {
		for acked := false; !acked; {
			select {
			case <-t.Done():
				if t.Error() != nil {
					return fmt.Errorf("publishing: %w", t.Error())
				}
				acked = true
			case <-ctx.Done():
				return fmt.Errorf("the broker does not acknowledge: %w", ctx.Err())
			case <-time.After(100 * time.Millisecond): // a token of a connection that broke may never be done
				if !c.up() {
					return errLost
				}
			}
		}
	}
	return nil
}

// overV5 is a connection by MQTT 5.
type overV5 struct {
	*v5.Client
	gone atomic.Bool
}

func (s Settings) connectV5(ctx context.Context, with *session) (connection, error) {
	ctx, cancel := context.WithTimeout(ctx, connectWithin)
	defer cancel()
	var dialer interface {
		DialContext(ctx context.Context, network, address string) (net.Conn, error)
	} = &net.Dialer{}
	if c := s.tlsNow(); c != nil {
		dialer = &tls.Dialer{Config: c}
	}
	conn, err := dialer.DialContext(ctx, "tcp", s.address.Host)
	if err != nil {
		return nil, fmt.Errorf("no connection to the broker: %w", plain.Network(err))
	}
	out := &overV5{}
	config := v5.ClientConfig{
		ClientID: s.clientID, Conn: packets.NewThreadSafeConn(conn), PacketTimeout: connectWithin,
		OnClientError:      func(error) { out.gone.Store(true) },
		OnServerDisconnect: func(*v5.Disconnect) { out.gone.Store(true) },
	}
	connect := &v5.Connect{
		ClientID: s.clientID, CleanStart: true, KeepAlive: uint16(keepAlive.Seconds()), Username: s.user, UsernameFlag: s.user != "",
		Password: []byte(s.password), PasswordFlag: s.password != "",
	}
	if with != nil {
		config.OnPublishReceived = []func(v5.PublishReceived) (bool, error){func(m v5.PublishReceived) (bool, error) {
			with.take(m.Packet.Topic, m.Packet.Payload)
			return true, nil
		}}
		connect.WillMessage = &v5.WillMessage{Topic: with.will.topic, Payload: with.will.payload, QoS: 1, Retain: with.will.retain}
	}
	out.Client = v5.NewClient(config)
	if _, err := out.Connect(ctx, connect); err != nil {
		conn.Close()
		return nil, fmt.Errorf("no connection to the broker: %w", plain.Network(err))
	}
	if with != nil {
		var ask v5.Subscribe
		for _, f := range with.filters {
			ask.Subscriptions = append(ask.Subscriptions, v5.SubscribeOptions{Topic: f, QoS: 1})
		}
		if _, err := out.Subscribe(ctx, &ask); err != nil {
			out.close()
			return nil, fmt.Errorf("the broker does not take a subscription: %w", err)
		}
	}
	return out, nil
}

func (c *overV5) up() bool { return !c.gone.Load() }
func (c *overV5) close()   { _ = c.Disconnect(&v5.Disconnect{}) }

func (c *overV5) publish(ctx context.Context, all []message) error {
	for _, m := range all {
		answer, err := c.Publish(ctx, &v5.Publish{Topic: m.topic, Payload: m.payload, Retain: m.retain, QoS: 1})
		if err != nil {
			return fmt.Errorf("publishing to %s: %w", m.topic, err)
		}
		if answer != nil && answer.ReasonCode >= 0x80 {
			return fmt.Errorf("the broker refuses %s (code 0x%02x); may this user write there?", m.topic, answer.ReasonCode)
		}
	}
	return nil
}

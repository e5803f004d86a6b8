package mqtt

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"fmt"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"

	paho "github.com/eclipse/paho.mqtt.golang"

	"nexocumula/internal/certs"
	"nexocumula/internal/gateway/payload"
	"nexocumula/internal/plain"
)

// shows holds the viewers of the messages that arrive at a listener.
type shows struct {
	any atomic.Int32 // how many there are, for the way of a message
	mu  sync.Mutex
	all map[*show]bool
}

type show struct {
	filter payload.Topic
	each   func(topic string, payload []byte, retained bool)
}

func (s *shows) show(topic string, raw []byte) {
	if s.any.Load() == 0 {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for one := range s.all {
		if _, ok := one.filter.Match(topic); ok {
			one.each(topic, raw, false)
		}
	}
}

// Look shows what devices publish here.
func (l *listener) Look(ctx context.Context, filter string, each func(topic string, payload []byte, retained bool)) error {
	of, err := payload.ParseTopic(filter)
	if err != nil {
		return err
	}
	one := &show{of, each}
	l.shows.mu.Lock()
	if l.shows.all == nil {
		l.shows.all = map[*show]bool{}
	}
	l.shows.all[one] = true
	l.shows.mu.Unlock()
	l.shows.any.Add(1)
	<-ctx.Done()
	l.shows.any.Add(-1)
	l.shows.mu.Lock()
	delete(l.shows.all, one)
	l.shows.mu.Unlock()
	return nil
}

// Look shows what the broker carries, in a session of its own that ends with the look.
func (b *broker) Look(ctx context.Context, filter string, each func(topic string, payload []byte, retained bool)) error {
	return look(ctx, b.place(), b.settings.user, b.settings.password, b.tlsNow, filter, each)
}

// BrokerAddress says how to reach a broker that is in no configuration.
type BrokerAddress struct {
	Address        string // tcp://host:port or tls://host:port
	User, Password string
	CA             string // PEM file of the authority; "": this machine's
}

// Look shows what a broker carries.
func Look(ctx context.Context, at BrokerAddress, filter string, each func(topic string, payload []byte, retained bool)) error {
	u, err := url.Parse(at.Address)
	if err != nil || u.Scheme != "tcp" && u.Scheme != "tls" || u.Hostname() == "" || u.Port() == "" {
		return fmt.Errorf("%q is not the address of a broker; write tcp://host:port, or tls://host:port", at.Address)
	}
	secure := func() *tls.Config { return nil }
	if u.Scheme == "tls" {
		holder, err := certs.Open(certs.Files{CA: at.CA})
		if err != nil {
			return err
		}
		secure = func() *tls.Config { return holder.Client(u.Hostname()) }
	}
	return look(ctx, u.String(), at.User, at.Password, secure, filter, each)
}

func look(ctx context.Context, address, user, password string, secure func() *tls.Config, filter string, each func(topic string, payload []byte, retained bool)) error {
	lost := make(chan error, 1)
	client := paho.NewClient(paho.NewClientOptions().
		AddBroker(address).SetClientID("nexocumula-look-" + strings.ToLower(rand.Text()[:8])).SetUsername(user).SetPassword(password).
		SetProtocolVersion(4).SetCleanSession(true).SetConnectTimeout(connectWithin).SetKeepAlive(keepAlive).SetAutoReconnect(false).
		SetConnectionLostHandler(func(_ paho.Client, err error) { lost <- err }).
		SetConnectionAttemptHandler(func(*url.URL, *tls.Config) *tls.Config { return secure() }).
		SetDefaultPublishHandler(func(_ paho.Client, m paho.Message) { each(m.Topic(), m.Payload(), m.Retained()) }))
	done := func(t paho.Token) error {
		select {
		case <-t.Done():
			return t.Error()
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	defer client.Disconnect(100)
	if err := done(client.Connect()); err != nil {
		return fmt.Errorf("connecting to the broker at %s: %w", address, plain.Network(err))
	}
	token := client.Subscribe(filter, 0, nil)
	if err := done(token); err != nil {
		return fmt.Errorf("subscribing to %q at %s: %w", filter, address, plain.Network(err))
	}
	if sub, ok := token.(*paho.SubscribeToken); ok {
		for _, code := range sub.Result() {
			if code >= notGranted {
				return fmt.Errorf("the broker at %s refuses to show %q to user %q", address, filter, user)
			}
		}
	}
	select {
	case err := <-lost:
		return fmt.Errorf("the connection to the broker at %s was lost: %w", address, plain.Network(err))
	case <-ctx.Done():
		return nil
	}
}

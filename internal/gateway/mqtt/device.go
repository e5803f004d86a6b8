package mqtt

import (
	"crypto/tls"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/packets"
	"golang.org/x/time/rate"

	"nexocumula/internal/gateway/payload"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/sparkplug"
)

// device is a client of the listener that has been let in.
type device struct {
	account         string
	messages, bytes *rate.Limiter // nil: any number

	mu     sync.Mutex
	acker  *acker // from its first message on
	closed bool
}

// accountOf returns the name of a client's certificate, or the one that it gives.
func accountOf(cl *mqtt.Client) (name string, byCert bool) {
	if secure, ok := cl.Net.Conn.(*tls.Conn); ok {
		if chains := secure.ConnectionState().VerifiedChains; len(chains) > 0 {
			return chains[0][0].Subject.CommonName, true
		}
	}
	return string(cl.Properties.Username), false
}

// OnConnectAuthenticate lets devices in that have an account, or where there are none, all.
func (l *listener) OnConnectAuthenticate(cl *mqtt.Client, pk packets.Packet) bool {
	name, byCert := accountOf(cl)
	if !byCert && l.settings.accounts != nil {
		switch l.settings.accounts.let(name, pk.Connect.Password, hostOf(cl.Net.Remote)) {
		case tooBusy: // closed without an answer: another password would not help
			l.Failed("device "+cl.ID,
				fmt.Sprintf("turned away from %s: so many passwords are being looked at that account %q has to come again",
					cl.Net.Remote, name))
			cl.Stop(packets.ErrServerBusy)
			return false
		case turnedAway:
			l.Failed("device "+cl.ID,
				fmt.Sprintf("turned away from %s: account %q is not known, or its password is another", cl.Net.Remote,
					name))
			return false
		}
	}
	if other, ok := l.server.Clients.Get(cl.ID); ok && l.hasAccounts() {
		if before, _ := accountOf(other); before != name {
			l.Failed("device "+cl.ID,
				fmt.Sprintf("turned away from %s: account %q uses the client id of account %q", cl.Net.Remote, name,
					before))
			return false
		}
	}
	return true
}

// hasAccounts reports whether devices have accounts.
func (l *listener) hasAccounts() bool { return l.settings.accounts != nil || l.settings.needCert }

// OnACLCheck lets devices publish where they may, and not subscribe, but to Sparkplug's
// commands.
func (l *listener) OnACLCheck(cl *mqtt.Client, topic string, write bool) bool {
	if !write {
		return l.sparks != nil && sparkplug.Command(topic)
	}
	account := l.account(cl)
	if !strings.HasPrefix(topic, forbidden) && !allows(l.settings.permissions, account, cl.ID, topic) {
		l.reject(topic,
			fmt.Sprintf("device %s, account %q, may not publish here; permissions: say where it may", cl.ID, account),
			nil)
		return false
	}
	return true
}

// OnSessionEstablished begins a device's stay.
func (l *listener) OnSessionEstablished(cl *mqtt.Client, _ packets.Packet) {
	d := &device{}
	d.account, _ = accountOf(cl)
	if n := l.settings.messageRate; n > 0 {
		d.messages = rate.NewLimiter(rate.Limit(n), n)
	}
	if n := l.settings.byteRate; n > 0 {
		d.bytes = rate.NewLimiter(rate.Limit(n), max(n, l.settings.maxPayload))
	}
	l.devices.Store(cl, d)
	l.present(cl, d, true)
}

func (l *listener) device(cl *mqtt.Client) *device {
	if d, ok := l.devices.Load(cl); ok {
		return d.(*device)
	}
	return &device{}
}

// account returns the account a device connected with, even after it disconnected.
func (l *listener) account(cl *mqtt.Client) string {
	if d, ok := l.devices.Load(cl); ok {
		return d.(*device).account
	}
	name, _ := accountOf(cl)
	return name
}

// over says what a device sends too much of.
func (d *device) over(size int) string {
	switch {
	case d.messages != nil && !d.messages.Allow():
		return fmt.Sprintf("sends more than messages_per_second allows, %v; it was sent away", d.messages.Limit())
	case d.bytes != nil && !d.bytes.AllowN(time.Now(), size):
		return fmt.Sprintf("sends more than bytes_per_second allows, %v; it was sent away", d.bytes.Limit())
	}
	return ""
}

// sendAway ends a connection, with the reason where the protocol has one.
func (l *listener) sendAway(cl *mqtt.Client, why packets.Code) {
	if cl.Properties.ProtocolVersion < 5 {
		cl.Stop(why)
		return
	}
	_ = l.server.DisconnectClient(cl, why) // it ends, whether it hears this or not
}

func (d *device) acks(cl *mqtt.Client) *acker {
	d.mu.Lock()
	defer d.mu.Unlock()
	switch {
	case d.acker != nil:
	case d.closed: // the connection has ended, so nobody receives the acknowledgement
		return &acker{client: cl, closed: true, wake: make(chan struct{}, 1)}
	default:
		d.acker = newAcker(cl)
	}
	return d.acker
}

func (d *device) close() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.closed = true
	if d.acker != nil {
		d.acker.close()
	}
}

// OnWillSent takes the last will of a device in, as if it had sent it.
func (l *listener) OnWillSent(cl *mqtt.Client, pk packets.Packet) {
	at, err := l.pipe.Arrive()
	if err != nil || !allows(l.settings.permissions, l.account(cl), cl.ID, pk.TopicName) {
		return
	}
	d := &pipeline.Delivery{Sender: cl.ID}
	if body := slices.Clone(pk.Payload); l.sparks.mine(pk.TopicName) {
		l.sparks.take(pk.TopicName, body, at, d)
	} else {
		got := l.messages.Decode(payload.Arrived{Topic: pk.TopicName, Payload: body, At: at})
		d.Readings, d.Rejects = got.Readings, got.Rejects
	}
	l.Arrived(len(d.Readings), len(d.Rejects))
	l.pipe.Submit(d)
}

package sim

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"log/slog"
	"net"
	"os"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/auth"
	"github.com/mochi-mqtt/server/v2/listeners"

	"nexocumula/internal/certs"
)

// SiteBroker is a broker that a site has had for long.
type SiteBroker struct {
	Address  string // tcp:// or tls://host:port
	server   *mqtt.Server
	password string
	trusted  *x509.CertPool // nil: it is open to anybody
}

// StartSiteBroker starts one at host:port, port 0 finds a free one: anybody may publish and
// subscribe.
func StartSiteBroker(listen string) (*SiteBroker, error) {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, fmt.Errorf("simulated broker: %w", err)
	}
	return (&SiteBroker{Address: "tcp://" + l.Addr().String()}).start(l, new(auth.AllowHook), nil)
}

// StartSecuredBroker starts one that speaks TLS, with a certificate of the authority, and knows
// the accounts scale and gateway.
func StartSecuredBroker(listen string, signs *certs.Authority, password string) (*SiteBroker, error) {
	cert, key, err := signs.Make("site-broker")
	if err != nil {
		return nil, fmt.Errorf("simulated broker: %w", err)
	}
	pair, err := tls.LoadX509KeyPair(cert, key)
	if err != nil {
		return nil, fmt.Errorf("simulated broker: %w", err)
	}
	ca, err := os.ReadFile(signs.CA)
	if err != nil {
		return nil, fmt.Errorf("simulated broker: %w", err)
	}
	l, err := tls.Listen("tcp", listen,
		&tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12})
	if err != nil {
		return nil, fmt.Errorf("simulated broker: %w", err)
	}
	b := &SiteBroker{Address: "tls://" + l.Addr().String(), password: password, trusted: x509.NewCertPool()}
	b.trusted.AppendCertsFromPEM(ca)
	accounts := &auth.Ledger{Auth: auth.AuthRules{
		{Username: "scale", Password: auth.RString(password), Allow: true},
		{Username: "gateway", Password: auth.RString(password), Allow: true},
	}}
	return b.start(l, new(auth.Hook), &auth.Options{Ledger: accounts})
}

func (b *SiteBroker) start(l net.Listener, hook mqtt.Hook, config any) (*SiteBroker, error) {
	b.server = mqtt.New(&mqtt.Options{Logger: slog.New(slog.DiscardHandler)})
	if err := b.server.AddHook(hook, config); err != nil {
		return nil, err
	}
	if err := b.server.AddListener(listeners.NewNet("site", l)); err != nil {
		return nil, err
	}
	return b, b.server.Serve()
}

// Close stops the broker.
func (b *SiteBroker) Close() error { return b.server.Close() }

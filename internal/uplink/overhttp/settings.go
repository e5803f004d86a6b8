// Package overhttp is the kind of uplink that sends to a central over HTTP, see docs/replication.md.
package overhttp

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"strings"

	"nexocumula/client"
	"nexocumula/internal/certs"
	"nexocumula/internal/config"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/plain"
	"nexocumula/internal/uplink"
)

// Settings are those of an uplink to a central.
type Settings struct {
	URL string // http:// or https:// and host:port

	TLS        *certs.Holder // nil: what this machine trusts
	ServerName string        // that the central's certificate must be for; "": the address's

	Token string // "": it joins with a code, and gets a credential of its own
}

type file struct {
	Address      string            `yaml:"address"`
	TLS          *config.ClientTLS `yaml:"tls"`
	shape.Secret `yaml:",inline"`
}

// Kind has its keys beside name: and tiers:.
var Kind = uplink.Kind("", "sends to a central over HTTP", check)

func check(at shape.Place, raw file) uplink.Settings {
	out := Settings{URL: strings.TrimRight(raw.Address, "/"), Token: at.Secret(raw.Secret, false)}
	if u, err := url.Parse(raw.Address); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		at.Key("address").Wrong("%q is not the address of a central; write http://host:port or https://host:port",
			raw.Address)
	}
	out.TLS, out.ServerName = raw.TLS.Check(at.Key("tls"), strings.HasPrefix(raw.Address, "https://"))
	return out
}

// Address says where it sends.
func (s Settings) Address() string { return s.URL }

// metered has the connections of a client counted, and slowed down to the rate.
func metered(by *http.Client, m *uplink.Meter) *http.Client {
	if m == nil {
		return by
	}
	transport, ok := by.Transport.(*http.Transport)
	if !ok {
		transport = http.DefaultTransport.(*http.Transport).Clone()
		by.Transport = transport
	}
	dial := transport.DialContext
	transport.DialContext = func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return m.Conn(c), nil
	}
	return by
}

// HTTP makes the requests to the central. It follows nobody elsewhere.
func (s Settings) HTTP() *http.Client {
	out := &http.Client{}
	if s.TLS != nil {
		out = s.TLS.HTTP(s.ServerName)
	}
	out.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return out
}

// Check asks whether a central answers at the address, as the one that the gateway joined
// where it has. Whether it takes the secret shows once there is something to send.
func (s Settings) Check(ctx context.Context, data, name string) (says string, works bool) {
	by := s.HTTP()
	if s.Token == "" {
		joined, err := LoadCredential(CredentialFile(data, name))
		if errors.Is(err, fs.ErrNotExist) {
			return "it has no secret, and has not joined its central yet; see nexocumula join --help", false
		}
		if err != nil {
			return err.Error(), false
		}
		if joined.Fingerprint != "" {
			by = certs.Pinned(joined.Fingerprint)
		}
	}
	found, err := client.Over(s.URL, by).Session(ctx)
	switch {
	case err != nil:
		return plain.Network(err).Error(), false
	case !found.Central:
		return fmt.Sprintf("what answers at %s is no central", s.URL), false
	}
	return "the central answers", true
}

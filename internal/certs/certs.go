// Package certs is TLS from certificate files, which are read again when they change.
package certs

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"sync"
	"time"

	"nexocumula/internal/secret"
)

// Files are where certificates are; "" is none.
type Files struct {
	CA        string // of the other side
	Cert, Key string // of our own
}

// Holder keeps what the files hold, and reads them again when they change.
type Holder struct {
	files Files

	mu      sync.Mutex
	looked  time.Time // when the files were last looked at
	stamps  [3]stamp
	pool    *x509.CertPool
	cert    *tls.Certificate
	trouble error // why the files as they are now cannot be used; those before still count
}

// stamp tells whether a file changed.
type stamp struct {
	modified time.Time
	size     int64
}

// lookAgain is how often the files are looked at, at most.
const lookAgain = time.Second

// Open reads the files.
func Open(files Files) (*Holder, error) {
	if (files.Cert == "") != (files.Key == "") {
		return nil, errors.New("a certificate needs its key: give both cert and key, or none")
	}
	h := &Holder{files: files}
	h.stamps = h.stampsNow()
	if err := h.read(); err != nil {
		return nil, err
	}
	return h, nil
}

func (h *Holder) stampsNow() (out [3]stamp) {
	for i, name := range []string{h.files.CA, h.files.Cert, h.files.Key} {
		if about, err := os.Stat(name); name != "" && err == nil {
			out[i] = stamp{about.ModTime(), about.Size()}
		}
	}
	return out
}

func (h *Holder) read() error {
	pool, cert := h.pool, h.cert
	if h.files.CA != "" {
		text, err := os.ReadFile(h.files.CA)
		if err != nil {
			return fmt.Errorf("the certificate authority cannot be read: %w", err)
		}
		if pool = x509.NewCertPool(); !pool.AppendCertsFromPEM(text) {
			return fmt.Errorf("%s holds no certificate in PEM form", h.files.CA)
		}
	}
	if h.files.Cert != "" {
		if err := secret.OnlyOwner(h.files.Key); err != nil {
			return err
		}
		pair, err := tls.LoadX509KeyPair(h.files.Cert, h.files.Key)
		if err != nil {
			return fmt.Errorf("the certificate %s and its key: %w", h.files.Cert, err)
		}
		cert = &pair
	}
	h.pool, h.cert = pool, cert
	return nil
}

// current returns the certificates in the files, or the last usable ones.
func (h *Holder) current() (*x509.CertPool, *tls.Certificate) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if time.Since(h.looked) >= lookAgain {
		h.looked = time.Now()
		if now := h.stampsNow(); now != h.stamps {
			if h.trouble = h.read(); h.trouble == nil {
				h.stamps = now
			}
		}
	}
	return h.pool, h.cert
}

// Parts returns the certificates in the files, or the last usable ones, for a library that
// makes its own connections; nil is none.
func (h *Holder) Parts() (*x509.CertPool, *tls.Certificate) { return h.current() }

// Trouble is why the files as they are now cannot be used, so that those before still
// count; nil when all is well.
func (h *Holder) Trouble() error {
	h.current()
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.trouble
}

// warnBefore is how long before a certificate ends people are told.
const warnBefore = 30 * 24 * time.Hour

// Expiring says when our own certificate ends, if that is within 30 days of now or over; nil when it is not.
func (h *Holder) Expiring(now time.Time) error {
	leaf := h.leaf()
	if leaf == nil || leaf.NotAfter.Sub(now) > warnBefore {
		return nil
	}
	ends := leaf.NotAfter.UTC().Format(time.RFC3339)
	if now.After(leaf.NotAfter) {
		return fmt.Errorf("the certificate in %s ended at %s; put its successor into the same file, which is read at once",
			h.files.Cert, ends)
	}
	return fmt.Errorf("the certificate in %s ends at %s, in %d days; put its successor into the same file, which is read at once",
		h.files.Cert, ends, int(leaf.NotAfter.Sub(now).Hours()/24))
}

// leaf is our own certificate; nil without one.
func (h *Holder) leaf() *x509.Certificate {
	_, cert := h.current()
	if cert == nil {
		return nil
	}
	if cert.Leaf != nil {
		return cert.Leaf
	}
	leaf, _ := x509.ParseCertificate(cert.Certificate[0]) // nil of one that nobody can read either
	return leaf
}

// For reports whether our own certificate is for a host.
func (h *Holder) For(host string) bool {
	leaf := h.leaf()
	return leaf != nil && leaf.VerifyHostname(host) == nil
}

// Server is for a listener. Clients that show a certificate must have it from the CA;
// required says that all must show one. protocols are those above TLS, the best first.
func (h *Holder) Server(required bool, protocols ...string) *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, GetConfigForClient: func(*tls.ClientHelloInfo) (*tls.Config, error) {
		pool, cert := h.current()
		out := &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{*cert}, NextProtos: protocols}
		if pool != nil {
			out.ClientCAs, out.ClientAuth = pool, tls.VerifyClientCertIfGiven
			if required {
				out.ClientAuth = tls.RequireAndVerifyClientCert
			}
		}
		return out, nil
	}}
}

// Client is for a connection to be made now to a server of that name. Without a CA those
// that this machine trusts count.
func (h *Holder) Client(name string) *tls.Config {
	pool, cert := h.current()
	out := &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: pool, ServerName: name}
	if cert != nil {
		out.Certificates = []tls.Certificate{*cert}
	}
	return out
}

// HTTP makes HTTP requests, each new connection with what the files hold then. name is what the
// server's certificate must be for; "": the host that is asked.
func (h *Holder) HTTP(name string) *http.Client {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	var known sessions
	transport.DialTLSContext = func(ctx context.Context, network, address string) (net.Conn, error) {
		host, _, err := net.SplitHostPort(address)
		if err != nil {
			return nil, err
		}
		config := h.Client(cmp.Or(name, host))
		config.ClientSessionCache = known.of(config)
		conn, err := transport.DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		over := tls.Client(conn, config)
		if err := over.HandshakeContext(ctx); err != nil {
			conn.Close()
			return nil, err
		}
		return over, nil
	}
	return &http.Client{Transport: transport}
}

package certs

import (
	"crypto/tls"
	"crypto/x509"
	"sync"
)

// sessions are those of TLS (RFC 8446, 2.2) that a client may go on with: a new connection then costs a few hundred bytes
// less than the certificates take, and a round trip less. They are for one set of certificates, as what goes on
// with a session is not checked against others.
type sessions struct {
	mu    sync.Mutex
	roots *x509.CertPool
	own   *x509.Certificate
	cache tls.ClientSessionCache
}

const mostSessions = 4

func (s *sessions) of(config *tls.Config) tls.ClientSessionCache {
	var own *x509.Certificate
	if len(config.Certificates) > 0 {
		own = config.Certificates[0].Leaf
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.cache == nil || s.roots != config.RootCAs || s.own != own {
		s.roots, s.own, s.cache = config.RootCAs, own, tls.NewLRUClientSessionCache(mostSessions)
	}
	return s.cache
}

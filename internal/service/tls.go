package service

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"nexocumula/internal/certs"
)

// serving is a server, and what has it serve.
type serving struct {
	*http.Server
	on func() error
}

func (s serving) serve() error {
	if err := s.on(); !errors.Is(err, http.ErrServerClosed) && !errors.Is(err, net.ErrClosed) {
		return fmt.Errorf("serving HTTP: %w", err)
	}
	return nil
}

// servers returns the one of the HTTP interface and, where that speaks TLS, one at the same port that
// sends those who do not to where they do.
func (s *Service) servers(own *http.Server) []serving {
	if s.tls == nil {
		return []serving{{own, func() error { return own.Serve(s.listen) }}}
	}
	secure, plain := certs.Split(s.listen)
	own.TLSConfig = s.tls.Server(s.tls.ClientsShow, "h2", "http/1.1")
	away := &http.Server{
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			host := r.Host
			if name, _, err := net.SplitHostPort(host); err == nil {
				host = name
			}
			if !s.tls.For(strings.Trim(host, "[]")) { // lest somebody is led elsewhere by a name that he sends himself
				http.Error(w,
					"this service speaks TLS: use https:// and a name that its certificate is for", http.StatusMisdirectedRequest)
				return
			}
			http.Redirect(w, r, "https://"+r.Host+r.URL.RequestURI(), http.StatusPermanentRedirect)
		}),
		ReadTimeout: 10 * time.Second, WriteTimeout: 10 * time.Second, MaxHeaderBytes: 16 << 10, ErrorLog: own.ErrorLog,
	}
	return []serving{
		{own, func() error { return own.ServeTLS(secure, "", "") }},
		{away, func() error { return away.Serve(plain) }},
	}
}

// certificates says what is wrong with the HTTP interface's certificates, or will be within 30 days.
func (s *Service) certificates() (troubles []string) {
	if s.tls == nil {
		return nil
	}
	if err := s.tls.Trouble(); err != nil {
		troubles = append(troubles,
			fmt.Sprintf("the certificates of this interface cannot be read anew, and those before still count: %v", err))
	}
	if err := s.tls.Expiring(s.Store.Judge().Now()); err != nil {
		troubles = append(troubles, err.Error())
	}
	return troubles
}

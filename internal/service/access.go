package service

import (
	"context"
	"log/slog"
	"strings"
	"time"

	"nexocumula/internal/access"
	"nexocumula/internal/api"
	"nexocumula/internal/config"
)

// openBook opens the records of who may do what.
func openBook(settings config.Settings, now func() time.Time, log *slog.Logger) (*access.Book, error) {
	a := settings.Access
	return access.Open(settings.Data, access.Options{Now: now, Log: log, Idle: a.Idle, Ends: a.Ends, Audit: a.Audit})
}

// gate says who has to say who he is at the HTTP interface.
func (s *Service) gate() api.Gate {
	a := s.settings.Load().Access
	return api.Gate{
		Book:        s.book,
		Login:       a.Login,
		Open:        a.Open,
		Provider:    a.Provider,
		Fingerprint: s.Fingerprint,
		Vouched:     s.tls != nil && s.tls.Vouched,
	}
}

// Fingerprint returns the fingerprint of the HTTP interface's certificate, or "" without one.
func (s *Service) Fingerprint() string {
	if s.tls == nil {
		return ""
	}
	return s.tls.Fingerprint()
}

// FirstCode returns a code with which the first administrator's account is made; "" where that is
// not needed, or there is one.
func (s *Service) FirstCode() (string, error) {
	if !s.settings.Load().Access.Login || s.book.Governed() {
		return "", nil
	}
	return s.RecoveryCode()
}

// RecoveryCode returns a code for another administrator, for whoever runs the service.
func (s *Service) RecoveryCode() (string, error) {
	return s.book.AdministratorCode(access.By{Who: "nexocumula", Kind: "machine"})
}

// Unguarded reports whether nobody has to log in, though other machines reach the service.
func (s *Service) Unguarded() bool { return s.settings.Load().Access.Open }

// ReloadForSignal is Reload for whoever may send the process a signal; the audit says so.
func (s *Service) ReloadForSignal(ctx context.Context) error {
	out, err := s.Reload(ctx)
	e := access.Entry{
		Action:  "reload",
		Outcome: access.Done,
		Target:  strings.Join(append(out.Applied, out.Restart...), ", "),
	}
	if err != nil {
		e.Outcome, e.Reason = access.Failed, err.Error()
	}
	_ = s.book.Note(access.By{Who: "signal", Kind: "machine"}, e) // reported as a trouble
	return err
}

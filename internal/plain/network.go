// Package plain says in words what went wrong underneath: for people who stand in a pump
// house, and not for those who know the names of system calls.
package plain

import (
	"context"
	"errors"
	"io"
	"net"
	"net/url"
	"os"
	"syscall"
)

// Network is err with the network's part of it in a sentence. The original can still be
// found with errors.Is and As.
func Network(err error) error {
	if text := words(err); text != "" {
		return &said{text, err}
	}
	if u, ok := errors.AsType[*url.Error](err); ok {
		return u.Err // without the method and the address, which the caller knows
	}
	return err
}

type said struct {
	text  string
	cause error
}

func (s *said) Error() string { return s.text }

func (s *said) Unwrap() error { return s.cause }

func words(err error) string {
	if dns, ok := errors.AsType[*net.DNSError](err); ok {
		return "the name " + dns.Name + " is not known here; check the address, or the name server"
	}
	if err == nil {
		return ""
	}
	if text := tlsWords(err); text != "" {
		return text
	}
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return "nothing listens there (connection refused); is it running, and is the port right?"
	case errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EHOSTUNREACH):
		return "there is no way to that address (host or network unreachable); is the link up?"
	case errors.Is(err, syscall.EADDRINUSE):
		return "another program listens at that address already"
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return "that address is not one of this machine's"
	case errors.Is(err, syscall.EACCES) && isNet(err):
		return "this account may not use that port; take one above 1023"
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, context.DeadlineExceeded), isTimeout(err):
		return "no answer came in time"
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE), errors.Is(err, io.EOF), errors.Is(err,
		io.ErrUnexpectedEOF):
		return "the other end closed the connection"
	case errors.Is(err, net.ErrClosed):
		return "the connection was closed here"
	}
	return ""
}

func isNet(err error) bool {
	_, ok := errors.AsType[*net.OpError](err)
	return ok
}

func isTimeout(err error) bool {
	t, ok := errors.AsType[net.Error](err)
	return ok && t.Timeout()
}

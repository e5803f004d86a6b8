package certs

import (
	"bufio"
	"net"
	"sync"
	"time"
)

// Split takes connections of a listener and hands those that begin with TLS to one listener, and others
// to another, so that who forgets the s of https:// can be told.
func Split(l net.Listener) (secure, plain net.Listener) {
	s := &splitter{Listener: l, secure: make(chan net.Conn), plain: make(chan net.Conn), closed: make(chan struct{})}
	go s.run()
	return &branch{s, s.secure}, &branch{s, s.plain}
}

type splitter struct {
	net.Listener
	secure, plain chan net.Conn
	closed        chan struct{}
	once          sync.Once
	err           error // of the listener, once it is closed
}

// firstWithin is how long a client may take until it says anything.
const firstWithin = 10 * time.Second

// handshake is the first byte of a connection by TLS (RFC 8446, 5.1).
const handshake = 22

func (s *splitter) run() {
	for {
		conn, err := s.Listener.Accept()
		if err != nil {
			s.end(err)
			return
		}
		go s.dispatch(conn)
	}
}

func (s *splitter) dispatch(conn net.Conn) {
	_ = conn.SetReadDeadline(time.Now().Add(firstWithin))
	begun := &peeked{conn, bufio.NewReaderSize(conn, 16)}
	first, err := begun.first.Peek(1)
	if err != nil {
		conn.Close()
		return
	}
	_ = conn.SetReadDeadline(time.Time{})
	to := s.plain
	if first[0] == handshake {
		to = s.secure
	}
	select {
	case to <- begun:
	case <-s.closed:
		conn.Close()
	}
}

func (s *splitter) end(err error) {
	s.once.Do(func() { s.err = err; close(s.closed) })
}

// peeked is a connection whose first bytes were looked at.
type peeked struct {
	net.Conn
	first *bufio.Reader
}

func (p *peeked) Read(b []byte) (int, error) { return p.first.Read(b) }

type branch struct {
	*splitter
	conns chan net.Conn
}

func (b *branch) Accept() (net.Conn, error) {
	select {
	case c := <-b.conns:
		return c, nil
	case <-b.closed:
		return nil, b.err
	}
}

// Close closes the listener, and so both.
func (b *branch) Close() error {
	err := b.Listener.Close()
	b.end(net.ErrClosed)
	return err
}

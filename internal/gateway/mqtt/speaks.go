package mqtt

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"strings"
	"syscall"
	"time"

	"nexocumula/internal/plain"
)

// unreached says for people why a broker could not be connected to. A broker that closes the connection
// without a word is asked whether its port speaks TLS.
func (b *broker) unreached(ctx context.Context, err error) string {
	text := refusal(err)
	closed := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET) ||
		errors.Is(err, syscall.EPIPE) || strings.HasSuffix(err.Error(), "EOF")
	if closed && b.settings.tls == nil && speaksTLS(ctx, b.settings.address.Host) {
		return plain.Network(io.EOF).Error() + ": that port speaks TLS; write tls://" + b.settings.address.Host
	}
	if closed && b.settings.tls != nil && text == plain.Network(io.EOF).Error() {
		return text + " before the two agreed on TLS: is it the port without TLS, or does it want another certificate?"
	}
	return text
}

const handshakeWithin = 3 * time.Second

// speaksTLS reports whether an address answers a handshake of TLS. Nothing is sent over the connection.
func speaksTLS(ctx context.Context, address string) bool {
	ctx, cancel := context.WithTimeout(ctx, handshakeWithin)
	defer cancel()
	dialer := tls.Dialer{NetDialer: &net.Dialer{}, Config: &tls.Config{InsecureSkipVerify: true}} // whose it is does not matter here
	c, err := dialer.DialContext(ctx, "tcp", address)
	if err == nil {
		c.Close()
		return true
	}
	_, alert := errors.AsType[tls.AlertError](err) // it wants our certificate, for example
	return alert
}

// handshake is the first byte of a connection that begins with TLS (RFC 8446, 5.1).
const handshake = 0x16

// hears notes a device that speaks TLS where a listener does not.
func (c *guarded) hears(first byte) {
	if first == handshake && c.guard.plain {
		c.guard.refuse(c.RemoteAddr().String(),
			"it speaks TLS, and this listener does not; give the listener tls:, or let the device connect without")
	}
}

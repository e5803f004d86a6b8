package plain

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatTheNetworkSaysBecomesASentence(t *testing.T) {
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, used := net.Listen("tcp", taken.Addr().String())
	silent := &http.Client{Timeout: 50 * time.Millisecond}
	_, late := silent.Get("http://" + taken.Addr().String())
	taken.Close()
	_, refused := http.Get("http://" + taken.Addr().String())
	for _, test := range []struct {
		err  error
		says string
		is   error
	}{
		{
			refused, "nothing listens there (connection refused); is it running, and is the port right?",
			syscall.ECONNREFUSED,
		},
		{used, "another program listens at that address already", syscall.EADDRINUSE},
		{late, "no answer came in time", context.DeadlineExceeded},
		{fmt.Errorf("reading: %w", io.ErrUnexpectedEOF), "the other end closed the connection", io.ErrUnexpectedEOF},
		{
			&net.DNSError{Name: "head-office.example", IsNotFound: true},
			"the name head-office.example is not known here; check the address, or the name server", nil,
		},
	} {
		got := Network(test.err)
		assert.EqualError(t, got, test.says)
		if test.is != nil {
			assert.ErrorIs(t, got, test.is, "the cause can still be found")
		}
	}
	other := errors.New("it rains")
	assert.Equal(t, other, Network(other), "what is no matter of the network stays as it is")
}

package mqtt

import (
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shut waits for a connection that was accepted and is not served yet.
func TestGuardWaitsForConnectionsThatAreJustBeginning(t *testing.T) {
	open, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	g := &guard{Listener: open, most: 8, refuse: func(string, string) {}}
	device, err := net.Dial("tcp", open.Addr().String())
	require.NoError(t, err)
	defer device.Close()
	served, err := g.Accept()
	require.NoError(t, err)

	ended := make(chan struct{})
	go func() {
		g.shut()
		close(ended)
	}()
	_, err = device.Read(make([]byte, 1))
	assert.Error(t, err, "it is closed, as it has not said who it is")
	select {
	case <-ended:
		t.Fatal("the guard ended before the connection was served")
	default:
	}
	_, err = served.Read(make([]byte, 1))
	assert.Error(t, err)
	select {
	case <-ended:
	case <-time.After(time.Minute):
		t.Fatal("the guard does not end although every connection was served")
	}
	_, err = g.Accept()
	assert.ErrorIs(t, err, net.ErrClosed)
}

// A commit that ends after its connection leaves no goroutine behind.
func TestADeviceThatIsGoneIsNotAcknowledged(t *testing.T) {
	var d device
	d.close()
	gone := d.acks(nil)
	assert.True(t, gone.closed)
	for id := range uint16(3) {
		gone.ack(1, id)
	}
	assert.Len(t, gone.waiting, 3, "nobody takes them")
	assert.Nil(t, d.acker)
}

package mqtt

import (
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/auth"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/gateway/source/sourcetest"
)

// brokerAt runs a broker until the test ends.
func brokerAt(t *testing.T, hook mqtt.Hook) (*mqtt.Server, *url.URL) {
	server := mqtt.New(&mqtt.Options{Logger: slog.New(slog.DiscardHandler), InlineClient: true})
	require.NoError(t, server.AddHook(hook, nil))
	open, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, server.AddListener(listeners.NewNet("b", open)))
	require.NoError(t, server.Serve())
	t.Cleanup(func() { server.Close() })
	return server, &url.URL{Scheme: "tcp", Host: open.Addr().String()}
}

// oneByOne lets clients connect one after the other. The broker of the tests lets two live that connect with one id at
// the same instant.
type oneByOne struct {
	auth.AllowHook
	turn chan struct{}
}

func (h *oneByOne) Provides(b byte) bool {
	return b == mqtt.OnSessionEstablished || h.AllowHook.Provides(b)
}

func (h *oneByOne) OnConnectAuthenticate(*mqtt.Client, packets.Packet) bool {
	select {
	case h.turn <- struct{}{}:
	case <-time.After(time.Second): // the one before went while it connected
	}
	return true
}

func (h *oneByOne) OnSessionEstablished(*mqtt.Client, packets.Packet) {
	select {
	case <-h.turn:
	default:
	}
}

// stored returns the readings of a series.
func stored(t *testing.T, b *sourcetest.Bench, path series.Path) (values []float64) {
	found, ok := b.Store.Find(path)
	if !ok {
		return nil
	}
	rows, err := b.Store.Read(t.Context(), found.ID, series.Readings, 0, 1<<62)
	require.NoError(t, err)
	if rows.Len() == 0 {
		return nil
	}
	return rows.Cols[0]
}

func TestWhatABrokerRetainsCountsOnce(t *testing.T) {
	for _, version := range []int{4, 5} {
		server, address := brokerAt(t, new(auth.AllowHook))
		require.NoError(t,
			server.Publish("buoy/b/state", []byte(`{"at":"2026-03-01T08:00:00Z","water":{"t1":4},"battery":12500}`),
				true, 1))
		require.NoError(t, server.Publish("mast/wind", []byte("7"), true, 1))
		b := sourcetest.New(t)
		settings := brokerSettings{
			address:  address,
			version:  version,
			clientID: fmt.Sprint("c", version),
			unacked:  100,
			messages: lake(),
		}
		var last *broker
		for again := range 2 { // a session that begins anew, as after a broker that lost its own
			settings.clientID = fmt.Sprint("c", version, again)
			broker := newBroker("site", settings, b.Pipe, slog.New(slog.DiscardHandler))
			b.Run(broker.Run)
			b.Eventually("both have come", func() bool { return broker.Tally().Acked == 2 })
			last = broker
		}
		assert.Equal(t, []float64{4}, stored(t, b, "long-mere/b/water_temp_1m"), "version %d", version)
		assert.Empty(t, stored(t, b, "long-mere/mast/wind"), "its age is unknown")
		assert.EqualValues(t, 1, last.Tally().Ignored)

		require.NoError(t, server.Publish("mast/wind", []byte("8"), true, 1)) // live, though it will be kept
		b.Eventually("it counts", func() bool { return len(stored(t, b, "long-mere/mast/wind")) > 0 })
		assert.Empty(t, b.Rejects(), "version %d", version)
	}
}

// A client of the library that does not come back, whatever the reason, is replaced; the session at
// the broker goes on.
func TestAClientThatHangsIsReplaced(t *testing.T) {
	server, address := brokerAt(t, new(auth.AllowHook))
	b := sourcetest.New(t)
	broker := newBroker("site", brokerSettings{
		address:  address,
		version:  4,
		clientID: "c",
		unacked:  100,
		messages: lake(),
	}, b.Pipe, slog.New(slog.DiscardHandler))
	broker.hungAfter = 300 * time.Millisecond
	var asked atomic.Int32
	forever := make(chan struct{})
	defer close(forever)
	broker.open = func(at *url.URL, _ paho.ClientOptions) (net.Conn, error) {
		if asked.Add(1) == 1 {
			<-forever // no time limit of the library counts here
			return nil, net.ErrClosed
		}
		return net.Dial("tcp", at.Host)
	}
	b.Run(broker.Run)
	b.Eventually("another client is connected", func() bool { return broker.Tally().Up })
	assert.Contains(t, broker.Tally().LastError, "another takes its place")
	require.NoError(t,
		server.Publish("buoy/b/state", []byte(`{"at":"2026-03-01T08:00:00Z","water":{"t1":4},"battery":12500}`), false,
			1))
	b.Eventually("and acknowledges", func() bool { return broker.Tally().Acked == 1 })
	assert.EqualValues(t, 2, asked.Load())
}

func TestABrokerSendsNoMoreThanMayBeUnacknowledged(t *testing.T) {
	server, address := brokerAt(t, new(auth.AllowHook))
	b := sourcetest.New(t)
	const most, all = 20, 200
	broker := newBroker("site", brokerSettings{
		address:  address,
		version:  5,
		clientID: "c",
		unacked:  most,
		messages: lake(),
	}, b.Pipe, slog.New(slog.DiscardHandler))
	b.Run(broker.Run)
	b.Eventually("it is connected", func() bool { return broker.Tally().Up })
	begun, release, held := make(chan struct{}), make(chan struct{}), make(chan error, 1)
	go func() {
		held <- b.Pipe.Between(t.Context(), func() error { close(begun); <-release; return nil })
	}()
	<-begun // nothing is committed from now on
	for i := range all {
		require.NoError(t, server.Publish("mast/wind", fmt.Append(nil, i), false, 1))
	}
	b.Eventually("as many come as may", func() bool { return broker.Tally().Messages >= most })
	time.Sleep(200 * time.Millisecond)
	assert.EqualValues(t, most, broker.Tally().Messages)
	close(release)
	require.NoError(t, <-held)
	b.Eventually("they are acknowledged", func() bool { return broker.Tally().Acked >= most })
}

// Two clients with one client id end each other's connections; each says so.
func TestAnotherClientWithTheSameIDIsNamed(t *testing.T) {
	for _, version := range []int{4, 5} {
		_, address := brokerAt(t, &oneByOne{turn: make(chan struct{}, 1)})
		b := sourcetest.New(t)
		var both []*broker
		for _, name := range []string{"north", "south"} {
			broker := newBroker(name, brokerSettings{
				address:  address,
				version:  version,
				clientID: "twin",
				unacked:  100,
				messages: lake(),
			}, b.Pipe, slog.New(slog.DiscardHandler))
			b.Run(broker.Run)
			both = append(both, broker)
		}
		said := map[*broker]bool{} // each in its turn: what is known of a place is the latest
		b.Eventually("both know why", func() bool {
			for _, one := range both {
				said[one] = said[one] || slices.ContainsFunc(one.Tally().Faults, func(f source.Fault) bool {
					return strings.Contains(f.Text, `"twin"`) && strings.Contains(f.Text, "another client")
				})
			}
			return said[both[0]] && said[both[1]]
		})
	}
}

func TestSourcesAtOneBrokerHaveSessionsOfTheirOwn(t *testing.T) {
	_, address := brokerAt(t, new(auth.AllowHook))
	settings := brokerSettings{site: "long-mere", address: address}
	assert.Equal(t, "nexocumula-long-mere-north", settings.clientFor("north"))
	assert.NotEqual(t, settings.Needs("north"), settings.Needs("south"))
	settings.clientID = "twin"
	assert.Equal(t, settings.Needs("north"), settings.Needs("south"))
}

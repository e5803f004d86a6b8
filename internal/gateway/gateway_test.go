package gateway

import (
	"context"
	"log/slog"
	"net"
	"path/filepath"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/mqtt"
	"nexocumula/internal/store"
)

func settings(t *testing.T, address, quantity string) config.Gateway {
	s, err := config.Parse("g.yaml", []byte(`data: d
gateway:
  site: long-mere
  sources:
    - name: own
      mqtt_listener: { address: "`+address+`", messages: [{ topic: "mast/wind", series: mast/`+quantity+` }] }
`), config.Kinds{Sources: []config.SourceKind{mqtt.ListenerKind}})
	require.NoError(t, err)
	return *s.Gateway
}

func publish(t *testing.T, address string) {
	c := paho.NewClient(paho.NewClientOptions().AddBroker("tcp://" + address).SetClientID("mast"))
	for _, step := range []func() paho.Token{c.Connect, func() paho.Token {
		return c.Publish("mast/wind", 1, false,
			"5")
	}} {
		token := step()
		require.True(t, token.WaitTimeout(time.Minute))
		require.NoError(t, token.Error())
	}
	c.Disconnect(50)
}

func TestSourcesAndRulesAreReplacedWhileTheGatewayRuns(t *testing.T) {
	st, err := store.Open(filepath.Join(t.TempDir(), "s.db"), slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(t, err)
	g, err := New(settings(t, "127.0.0.1:0", "wind_speed"), st, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- g.Run(ctx) }()
	up := func() bool { return len(g.Sources()) == 1 && g.Sources()[0].Up }
	require.Eventually(t, up, time.Minute, 5*time.Millisecond)
	old := g.Sources()[0].Address
	publish(t, old)

	g.Use(settings(t, "127.0.0.1:0", "gusts"))
	_, err = net.Dial("tcp", old)
	assert.Error(t, err, "the old source has ended")
	require.Eventually(t, up, time.Minute, 5*time.Millisecond)
	publish(t, g.Sources()[0].Address)
	assert.EqualValues(t, 2, g.Pipe.Accepted(), "the pipeline stayed")
	assert.False(t, func() bool {
		idle := false
		require.NoError(t, g.Pipe.Between(t.Context(), func() error { idle = g.Pipe.Idle(); return nil }))
		return idle
	}(), "and so did its open windows")
	for _, path := range []string{"long-mere/mast/wind_speed", "long-mere/mast/gusts"} {
		_, ok := st.Find(series.Path(path))
		assert.True(t, ok, path)
	}
	cancel()
	require.NoError(t, <-done)
	require.NoError(t, st.Close())
}

func TestASourceThatCannotBeginEndsTheGateway(t *testing.T) {
	st, err := store.Open(filepath.Join(t.TempDir(), "s.db"), slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(t, err)
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	g, err := New(settings(t, taken.Addr().String(), "wind_speed"), st, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	assert.ErrorContains(t, g.Run(t.Context()), "another program listens at that address already")
	require.NoError(t, st.Close())
}

package main

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/auth"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"

	"nexocumula/internal/certs/certstest"
	"nexocumula/internal/config"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/kinds"
	"nexocumula/internal/service"
)

const (
	publishers  = 8
	inFlight    = 100 // of each publisher
	roundLength = 4 * time.Second
	rounds      = 5 // of each, in turn; the median counts
)

// ingestMQTT is messages per second, acknowledged and on disk, into the gateway's own
// listener, beside the broker library alone with a hook that only counts.
func ingestMQTT(dir string) (Row, error) {
	var p pairs
	for round := range rounds {
		reference, err := countingBroker()
		if err != nil {
			return Row{}, err
		}
		ours, err := gatewayListener(filepath.Join(dir, fmt.Sprint(round)), "", plainly)
		if err != nil {
			return Row{}, err
		}
		p.add(ours, reference)
	}
	return p.row("messages/s", 1, "the broker library, counting only", ">= 0.5",
		func(ratio float64) bool { return ratio >= 0.5 }), nil
}

type countHook struct {
	mqtt.HookBase
	count atomic.Uint64
}

func (h *countHook) Provides(b byte) bool { return b == mqtt.OnPublish }

func (h *countHook) OnPublish(_ *mqtt.Client, pk packets.Packet) (packets.Packet, error) {
	h.count.Add(1)
	return pk, nil
}

func countingBroker() (perSecond float64, err error) {
	server := mqtt.New(&mqtt.Options{Logger: slog.New(slog.DiscardHandler)})
	hook := &countHook{}
	if err := server.AddHook(new(auth.AllowHook), nil); err != nil {
		return 0, err
	}
	if err := server.AddHook(hook, nil); err != nil {
		return 0, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	if err := server.AddListener(listeners.NewNet("bench", l)); err != nil {
		return 0, err
	}
	if err := server.Serve(); err != nil {
		return 0, err
	}
	defer server.Close()
	acked, perSecond, err := publishAll(plainly(l.Addr().String()), threeFields)
	if err == nil && hook.count.Load() < acked {
		err = fmt.Errorf("the broker counted %d of %d messages", hook.count.Load(), acked)
	}
	return perSecond, err
}

const gatewayConfig = `
data: %s
listen: 127.0.0.1:0
gateway:
  site: bench
  sources:
    - name: buoys
      mqtt_listener:
        address: 127.0.0.1:0
        %s
        messages:
          - topic: "buoy/{buoy}/state"
            payload: json%s
            values:
              - { at: /temp, series: "{buoy}/water_temp" }
              - { at: /oxygen, series: "{buoy}/oxygen" }
              - { at: /battery, series: "{buoy}/battery" }
`

// gatewayListener measures a gateway and checks that every acknowledged reading is in
// its store.
func gatewayListener(dir, keys string, way func(address string) dialer) (perSecond float64, err error) {
	return gatewayOf(fmt.Sprintf(gatewayConfig, dir, keys, ""), way, threeFields)
}

func gatewayOf(config string, way func(address string) dialer, of says) (perSecond float64, err error) {
	s, stop, err := startGateway(config)
	if err != nil {
		return 0, err
	}
	acked, perSecond, err := publishAll(way(s.Gateway.Sources()[0].Address), of)
	if err == nil {
		err = countReadings(s, 3*acked)
	}
	return perSecond, errors.Join(err, stop())
}

// startGateway runs a gateway until stop is called, and returns once its sources are up.
func startGateway(text string) (s *service.Service, stop func() error, err error) {
	settings, err := config.Parse("bench.yaml", []byte(text), kinds.All)
	if err != nil {
		return nil, nil, err
	}
	if s, err = service.Open(settings, "bench", slog.New(slog.DiscardHandler)); err != nil {
		return nil, nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	stopped := make(chan error, 1)
	go func() { stopped <- s.Run(ctx) }()
	for slices.ContainsFunc(s.Gateway.Sources(), func(t source.Tally) bool { return !t.Up }) {
		time.Sleep(time.Millisecond)
	}
	return s, func() error { cancel(); return <-stopped }, nil
}

// failing receives the errors of the certificates' maker.
type failing struct{ err error }

func (f *failing) Errorf(format string, args ...any) { f.err = fmt.Errorf(format, args...) }
func (f *failing) FailNow()                          { panic(f.err) }

// ingestTLS measures the same ingest over TLS, beside the one without.
func ingestTLS(dir string) (Row, error) {
	ca := certstest.New(&failing{}, dir)
	cert, key := ca.Make(&failing{}, "bench")
	text, err := os.ReadFile(ca.CA)
	if err != nil {
		return Row{}, err
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(text)
	secured := func(address string) dialer {
		return func() (net.Conn, error) { return tls.Dial("tcp", address, &tls.Config{RootCAs: pool}) }
	}
	var p pairs
	for round := range rounds {
		ours, err := gatewayListener(filepath.Join(dir, fmt.Sprint("tls", round)),
			fmt.Sprintf("tls: { cert: %s, key: %s }", cert, key), secured)
		if err != nil {
			return Row{}, err
		}
		plain, err := gatewayListener(filepath.Join(dir, fmt.Sprint("plain", round)), "", plainly)
		if err != nil {
			return Row{}, err
		}
		p.add(ours, plain)
	}
	return p.row("messages/s", 1, "the same without TLS", "known", known), nil
}

// rules calibrate every reading, let it through three screens, and thin what is settled.
const rules = `  site: bench
  series:
    - select: "#"
      calibration: [{ points: [[-50, -50], [10, 10.5], [100, 100]], decimals: 2 }]
      screens: [{ range: [-50, 100] }, { change: 100000000, per: 1s }, { stuck_for: 24h }]
      thinning: { method: swinging_door, within: 0.05 }
`

// pipelineRules returns the ingest with rules, beside the same without. The readings are of the past, one a
// second of each series, so that their windows are over and they can be thinned.
func pipelineRules(dir string) (Row, error) {
	var p pairs
	for round := range rounds {
		const times = "\n            time: /at\n            time_form: unix_ms"
		without := fmt.Sprintf(gatewayConfig, filepath.Join(dir, fmt.Sprint("without", round)), "", times)
		with := strings.Replace(fmt.Sprintf(gatewayConfig, filepath.Join(dir, fmt.Sprint("with", round)), "", times),
			"  site: bench\n", rules, 1)
		past := timed(time.Now().Add(-7 * 24 * time.Hour))
		ours, err := gatewayOf(with, plainly, past)
		if err != nil {
			return Row{}, err
		}
		plain, err := gatewayOf(without, plainly, past)
		if err != nil {
			return Row{}, err
		}
		p.add(ours, plain)
	}
	return p.row("messages/s", 1, "the same without calibration, screens and thinning", ">= 0.8",
		func(ratio float64) bool { return ratio >= 0.8 }), nil
}

func countReadings(s *service.Service, wanted uint64) error {
	everything, err := series.ParseSelector("#")
	if err != nil {
		return err
	}
	var found uint64
	for _, one := range s.Store.List(everything) {
		rows, err := s.Store.Read(context.Background(), one.ID, series.Readings, 0, 1<<62)
		if err != nil {
			return err
		}
		found += uint64(rows.Len()) + one.Thinned.Arrived - one.Thinned.Kept
		if one.Thinning.Method != 0 && one.Thinned.Kept*2 > one.Thinned.Arrived {
			return fmt.Errorf("of %d readings %d were kept, which is no thinning", one.Thinned.Arrived,
				one.Thinned.Kept)
		}
	}
	if found < wanted {
		return fmt.Errorf("the store holds %d readings where %d were acknowledged", found, wanted)
	}
	return nil
}

package main

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"path/filepath"
	"sync/atomic"
	"time"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/auth"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"

	"nexocumula/internal/config"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway"
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
		ours, err := gatewayListener(filepath.Join(dir, fmt.Sprint(round)))
		if err != nil {
			return Row{}, err
		}
		p.add(ours, reference)
	}
	return p.row("messages/s", 1, "the broker library, counting only", ">= 0.5", func(ratio float64) bool { return ratio >= 0.5 }), nil
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
	acked, perSecond, err := publishAll(l.Addr().String())
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
        messages:
          - topic: "buoy/{buoy}/state"
            payload: json
            values:
              - { at: /temp, series: "{buoy}/water_temp" }
              - { at: /oxygen, series: "{buoy}/oxygen" }
              - { at: /battery, series: "{buoy}/battery" }
`

// gatewayListener measures a gateway and checks that every acknowledged reading is in
// its store.
func gatewayListener(dir string) (perSecond float64, err error) {
	settings, err := config.Parse("bench.yaml", fmt.Appendf(nil, gatewayConfig, dir), gateway.Kinds)
	if err != nil {
		return 0, err
	}
	s, err := service.Open(settings, "bench", slog.New(slog.DiscardHandler))
	if err != nil {
		return 0, err
	}
	ctx, stop := context.WithCancel(context.Background())
	stopped := make(chan error, 1)
	go func() { stopped <- s.Run(ctx) }()
	for !s.Gateway.Sources()[0].Up {
		time.Sleep(time.Millisecond)
	}
	acked, perSecond, err := publishAll(s.Gateway.Sources()[0].Address)
	if err == nil {
		err = countReadings(s, 3*acked)
	}
	stop()
	if stopErr := <-stopped; err == nil {
		err = stopErr
	}
	return perSecond, err
}

func countReadings(s *service.Service, wanted uint64) error {
	everything, err := series.ParseSelector("#")
	if err != nil {
		return err
	}
	var found uint64
	for _, one := range s.Store.List(everything) {
		rows, err := s.Store.Read(one.ID, rollup.Readings, 0, 1<<62)
		if err != nil {
			return err
		}
		found += uint64(rows.Len())
	}
	if found < wanted {
		return fmt.Errorf("the store holds %d readings where %d were acknowledged", found, wanted)
	}
	return nil
}

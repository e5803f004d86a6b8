package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"os/signal"
	"sync"
	"syscall"
	"time"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/auth"
	"github.com/mochi-mqtt/server/v2/listeners"
)

// brokerProcess is the first argument of a process that is only the broker library, which acknowledges and forgets.
const brokerProcess = "broker"

func beBroker(address string) error {
	server := mqtt.New(&mqtt.Options{Logger: slog.New(slog.DiscardHandler)})
	if err := server.AddHook(new(auth.AllowHook), nil); err != nil {
		return err
	}
	if err := server.AddListener(listeners.NewTCP(listeners.Config{ID: "t", Address: address})); err != nil {
		return err
	}
	if err := server.Serve(); err != nil {
		return err
	}
	fmt.Println("listens at " + address)
	ended := make(chan os.Signal, 1)
	signal.Notify(ended, syscall.SIGTERM)
	<-ended
	return server.Close()
}

const bareFor = time.Minute

// bareBroker returns the share of a core that the broker library alone takes for the messages of that many series a second.
func bareBroker(series, clients int) (cores float64, err error) {
	listen, err := freePort()
	if err != nil {
		return 0, err
	}
	self, err := os.Executable()
	if err != nil {
		return 0, err
	}
	p, err := launch(exec.Command(self, brokerProcess, listen), "listens at ")
	if err != nil {
		return 0, err
	}
	defer p.stop()
	ctx, cancel := context.WithCancel(context.Background())
	var wait sync.WaitGroup
	defer wait.Wait()
	defer cancel()
	failed := make(chan error, clients)
	for k := range clients {
		wait.Go(func() {
			if err := speak(ctx, listen, k, clients, series, time.Second, false, func(time.Duration) {}); err != nil && ctx.Err() == nil {
				failed <- err
			}
		})
	}
	if err := rest(10*time.Second, failed); err != nil {
		return 0, err
	}
	before, err := p.cost()
	if err != nil {
		return 0, err
	}
	if err := rest(bareFor, failed); err != nil {
		return 0, err
	}
	after, err := p.cost()
	return (after.cpu - before.cpu) / after.at.Sub(before.at).Seconds(), err
}

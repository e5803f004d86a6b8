// Package supervision is what whoever watches over a service can rely on: systemd hears when it is ready and that it
// lives, and what a crash has left is told at the next start.
package supervision

import (
	"context"
	"log/slog"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"

	"nexocumula/internal/event"
)

// Ready tells systemd that all who may come are let in.
func Ready(log *slog.Logger) { tell(log, daemon.SdNotifyReady) }

// Stopping tells systemd that the service ends by itself.
func Stopping(log *slog.Logger) { tell(log, daemon.SdNotifyStopping) }

// tell does nothing where systemd did not start the service, or does not want to know.
func tell(log *slog.Logger, state string) {
	if _, err := daemon.SdNotify(false, state); err != nil {
		event.SupervisorUnheard.To(log, "error", err)
	}
}

// perLife is how often within the time of systemd's watchdog the service says that it lives.
const perLife = 3

// Watch says to systemd's watchdog that the service lives, for as long as alive says so in time. Where there is no
// watchdog it does nothing.
func Watch(ctx context.Context, alive func(context.Context) error, log *slog.Logger) error {
	within, err := daemon.SdWatchdogEnabled(false)
	if err != nil {
		event.SupervisorUnheard.To(log, "error", err)
	}
	if within == 0 {
		return nil
	}
	watch(ctx, within, alive, func() { tell(log, daemon.SdNotifyWatchdog) }, log)
	return nil
}

func watch(ctx context.Context, within time.Duration, alive func(context.Context) error, lives func(), log *slog.Logger) {
	tick := time.NewTicker(within / perLife)
	defer tick.Stop()
	for {
		asked, stop := context.WithTimeout(ctx, within/perLife)
		err := alive(asked)
		stop()
		if err == nil {
			lives()
		} else if ctx.Err() == nil {
			event.Stuck.To(log, "error", err)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

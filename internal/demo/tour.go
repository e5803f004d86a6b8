package demo

import (
	"context"
	"fmt"
	"io"
	"time"

	"nexocumula/client"
	"nexocumula/internal/core/request"
	"nexocumula/internal/sim"
)

// Tour plays the whole story without a person and tells it to out: collect, cut the
// central off, bring it back, catch up, ask. It fails unless nothing was lost and
// nothing came twice.
func Tour(ctx context.Context, o Options, out io.Writer) (err error) {
	t := &tour{out: out, begun: time.Now()}
	t.say("Starting a central, three gateways and their simulated stations.")
	w, err := Start(ctx, o)
	if err != nil {
		return err
	}
	defer func() {
		if stopErr := w.Stop(); err == nil {
			err = stopErr
		}
	}()
	t.world = w
	t.say("Wrote %d days of history, %d readings, through the gateways' pipelines.", o.Days, w.History)
	if err := t.caughtUp(ctx, catchUpWithin); err != nil {
		return err
	}
	t.say("The central has all of it. Collecting live for 6 s.")
	if err := pause(ctx, 6*time.Second); err != nil {
		return err
	}
	w.CutOff(true)
	t.say("Cut the central off. The gateways go on collecting for 12 s.")
	if err := pause(ctx, 12*time.Second); err != nil {
		return err
	}
	waiting := t.backlog()
	t.say("%d summaries wait at the gateways. Bringing the central back.", waiting)
	w.CutOff(false)
	return t.end(ctx, time.Now())
}

// catchUpWithin is when the tour gives up waiting; a slow machine takes a while.
const catchUpWithin = 2 * time.Minute

type tour struct {
	out   io.Writer
	world *World
	begun time.Time
}

func (t *tour) say(format string, args ...any) {
	fmt.Fprintf(t.out, "%5.1f s  %s\n", time.Since(t.begun).Seconds(), fmt.Sprintf(format, args...))
}

func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-time.After(d):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (t *tour) backlog() (rows int) {
	for _, g := range t.world.Gateways {
		for _, u := range g.Uplinks() {
			rows += u.Backlog.Rows
		}
	}
	return rows
}

// caughtUp waits until no summary waits at any gateway.
func (t *tour) caughtUp(ctx context.Context, within time.Duration) error {
	deadline := time.Now().Add(within)
	for {
		waiting := t.backlog()
		if waiting == 0 {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("%d summaries still wait after %s", waiting, within)
		}
		if err := pause(ctx, 100*time.Millisecond); err != nil {
			return err
		}
	}
}

// end catches up, asks, and once all of the outage is settled proves and reports.
func (t *tour) end(ctx context.Context, outageEnd time.Time) error {
	if err := t.caughtUp(ctx, catchUpWithin); err != nil {
		return err
	}
	t.say("Caught up. Asking the central:")
	if err := t.ask(ctx); err != nil {
		return err
	}
	if err := t.fetch(ctx); err != nil {
		return err
	}
	if err := t.reconcile(ctx); err != nil {
		return err
	}
	if err := pause(ctx, time.Until(outageEnd.Add(settleIn+time.Second))); err != nil {
		return err
	}
	found, err := t.world.ProveUntilClean(ctx, catchUpWithin)
	if err != nil {
		return err
	}
	t.world.fieldOn()
	settle, cancel := context.WithTimeout(ctx, catchUpWithin)
	defer cancel()
	for _, p := range []*sim.Publisher{t.world.Lake, t.world.Silo, t.world.Gate} {
		if err := p.Settle(settle); err != nil {
			return err
		}
	}
	return t.report(found)
}

func (t *tour) ask(ctx context.Context) error {
	answer, err := client.New(t.world.Central.Address).Windows(ctx, client.WindowsQuery{
		Select: []string{"stony-beck/+/oxygen"}, Last: "24h", Width: "whole", Stats: []string{"mean", "min", "min_at"},
	})
	if err != nil {
		return err
	}
	for _, s := range answer.Series {
		if when := s.Whole.Times["min_at"]; when != nil {
			fmt.Fprintf(t.out, "          %-28s last 24 h: mean %5.2f, lowest %5.2f %s at %s\n", s.Name,
				s.Whole.Values["mean"], s.Whole.Values["min"], s.Unit, when.Format("15:04"))
		}
	}
	return nil
}

// fetch has the central fetch readings of a gateway, and asks what only readings can say.
func (t *tour) fetch(ctx context.Context) error {
	const path = "stony-beck/raceway-4/oxygen"
	central := client.New(t.world.Central.Address)
	from, to := time.Now().Add(-6*time.Hour).Truncate(time.Minute), time.Now().Add(-time.Hour).Truncate(time.Minute)
	made, err := central.AskGateways(ctx, client.NewRequest{Kind: request.Readings, Select: path, From: &from, To: &to})
	if err != nil {
		return err
	}
	for _, r := range made.Requests {
		for begun := time.Now(); !r.Over(); {
			if time.Since(begun) > catchUpWithin {
				return fmt.Errorf("the readings have not come after %s", catchUpWithin)
			}
			if err := pause(ctx, 100*time.Millisecond); err != nil {
				return err
			}
			if r, err = central.Request(ctx, r.ID); err != nil {
				return err
			}
		}
		if r.State != string(request.Done) {
			return fmt.Errorf("fetching readings of %s: %s: %s", path, r.State, r.Detail)
		}
		t.say("The central fetched what its summaries cannot say, %s of %s:", r.Detail, path)
	}
	answer, err := central.Windows(ctx, client.WindowsQuery{
		Select: []string{path}, From: from, To: to, Width: "whole", Stats: []string{"p50", "p95"},
	})
	if err != nil {
		return err
	}
	of := answer.Series[0]
	fmt.Fprintf(t.out, "          %-28s half of the readings are below %5.2f %s, 95 of 100 below %5.2f\n", of.Name, of.Values["p50"][0], of.Unit, of.Values["p95"][0])
	return nil
}

// reconcile has each gateway prove that the central holds what it holds.
func (t *tour) reconcile(ctx context.Context) error {
	for _, site := range sim.Sites {
		found, err := client.New(t.world.Gateways[site].Address).Reconcile(ctx, "head-office", client.NewReconcile{})
		if err != nil {
			return err
		}
		t.say("Compared %s", found.Text)
		if found.Different > 0 {
			return fmt.Errorf("%d things differ between %s and the central", found.Different, site)
		}
	}
	return nil
}

func (t *tour) report(f Findings) error {
	var acked uint64
	for _, s := range t.world.Gateways["long-mere"].Gateway.Sources() {
		if s.Form == "mqtt_listener" {
			acked += s.Acked
		}
	}
	devices := t.world.Lake.Acked.Load()
	t.say("Report")
	fmt.Fprintf(t.out, "          readings at the gateways   %d of %d series\n", f.Readings, f.Series)
	fmt.Fprintf(t.out, "          summaries at the central   %d\n", f.Summaries)
	fmt.Fprintf(t.out, "          missing %d, doubled or unfounded %d, different %d, up to and with the outage (%s)\n",
		f.Missing, f.Extra, f.Different, f.Until.UTC().Format("15:04:05Z"))
	fmt.Fprintf(t.out, "          messages the buoys and the mast have acknowledged: %d, counted by the gateway: %d\n",
		devices, acked)
	if !f.Clean() || acked != devices {
		return fmt.Errorf("the central does not hold what the gateways collected")
	}
	t.say("Nothing was lost and nothing came twice.")
	return nil
}

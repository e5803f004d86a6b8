package fieldwork

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"nexocumula/client"
	"nexocumula/internal/config"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/uplink"
)

// CheckLive connects to every broker, device and uplink of a configuration, and reads each series
// once. Messages are waited for until wait is over. Nothing is stored.
func CheckLive(ctx context.Context, settings config.Settings, wait time.Duration) (out []client.CheckedLive) {
	var uplinks []config.Uplink
	var parts [][]client.CheckedLive
	if g := settings.Gateway; g != nil {
		parts = make([][]client.CheckedLive, len(g.Sources))
		var all sync.WaitGroup
		for i, s := range g.Sources {
			all.Go(func() { parts[i] = checkSource(ctx, *g, s, wait) })
		}
		all.Wait()
		uplinks = append(uplinks, g.Uplinks...)
	}
	if c := settings.Central; c != nil {
		uplinks = append(uplinks, c.Uplinks...)
	}
	for _, u := range uplinks {
		parts = append(parts, []client.CheckedLive{checkUplink(ctx, settings.Data, u, wait)})
	}
	return slices.Concat(parts...)
}

func checkSource(ctx context.Context, g config.Gateway, s config.Source, wait time.Duration) (out []client.CheckedLive) {
	checker, ok := s.Settings.(source.Settings).Open(s.Name, nil, slog.New(slog.DiscardHandler)).(source.Checker)
	if !ok {
		return []client.CheckedLive{{Of: s.Name, Works: true, Says: "it waits for senders"}}
	}
	ctx, stop := context.WithTimeout(ctx, wait)
	defer stop()
	got := checker.Check(ctx)
	for _, text := range got.Good {
		out = append(out, client.CheckedLive{Of: s.Name, Works: true, Says: text})
	}
	for _, f := range got.Wrong {
		out = append(out, client.CheckedLive{Of: s.Name, Says: f.Place + ": " + f.Text})
	}
	last := map[string]client.CheckedLive{} // of each series
	for _, t := range pipeline.TryRules(g, got.Readings, time.Now().UnixNano()) {
		one := client.CheckedLive{
			Of:     s.Name,
			Series: string(t.Reading.Path),
			Unit:   t.Def.Unit,
			Works:  t.Rule == "" || len(t.Windows) > 0,
			Value:  cmp.Or(t.Def.States.Name(t.Value), fmt.Sprint(t.Value)),
			Says:   t.Reason,
		}
		if !one.Works {
			one.Value, one.Unit = cmp.Or(t.Reading.Text, fmt.Sprint(t.Reading.Value)), t.Reading.Unit
		}
		last[one.Series] = one
	}
	var series []client.CheckedLive
	for _, one := range last {
		series = append(series, one)
	}
	slices.SortFunc(series, func(a, b client.CheckedLive) int { return cmp.Compare(a.Series, b.Series) })
	out = append(out, series...)
	told := map[string]bool{}
	for _, r := range got.Rejects {
		if text := r.Place + ": " + r.Reason; !told[text] {
			told[text] = true
			out = append(out, client.CheckedLive{Of: s.Name, Says: text})
		}
	}
	return out
}

// checkUplink asks the kind of an uplink whether it can send.
func checkUplink(ctx context.Context, data string, u config.Uplink, wait time.Duration) client.CheckedLive {
	ctx, stop := context.WithTimeout(ctx, wait)
	defer stop()
	says, works := u.Settings.(uplink.Settings).Check(ctx, data, u.Name)
	return client.CheckedLive{Of: u.Name, Works: works, Says: says}
}

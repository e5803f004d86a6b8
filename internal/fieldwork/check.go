package fieldwork

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"nexocumula/client"
	"nexocumula/internal/config"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/span"
	"nexocumula/internal/gateway"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/kinds"
)

const longestWait = 10 * time.Minute

// Check checks the file of a running service. What runs is not connected to a second time: it is
// told how it stands.
// Sources whose address is not allowed are left alone.
func Check(ctx context.Context, g *gateway.Gateway, file string, want client.Check, allowed config.Field) (out client.Checked, err error) {
	out = client.Checked{File: file, Problems: []string{}, Live: []client.CheckedLive{}}
	wait := 10 * time.Second
	if want.Wait != "" {
		if wait, err = span.Parse(want.Wait); err != nil || wait < time.Second || wait > longestWait {
			return out, wrong("wait %q: use 1s to %s", want.Wait, span.Format(longestWait))
		}
	}
	settings, err := config.Load(file, kinds.All)
	if problems, ok := errors.AsType[shape.Problems](err); ok {
		for _, p := range problems {
			out.Problems = append(out.Problems, p.Error())
		}
		return out, nil
	}
	if err != nil || !want.Live {
		return out, err
	}
	if settings.Gateway != nil {
		settings.Gateway.Sources = slices.DeleteFunc(slices.Clone(settings.Gateway.Sources), func(s config.Source) bool {
			tally, runs := g.Runs(s)
			if runs {
				one := client.CheckedLive{
					Of:    s.Name,
					Works: tally.Up,
					Says: fmt.Sprintf("it runs as the file has it, at %s: %d messages, %d readings", tally.Address,
						tally.Messages, tally.Readings),
				}
				switch {
				case !tally.Up:
					one.Says = tally.LastError
				case len(tally.Absent) > 0:
					one.Works, one.Says = false, strings.Join(tally.Absent, "; ")
				}
				out.Live = append(out.Live, one)
				return true
			}
			to, ok := s.Settings.(source.Reaching)
			if !ok {
				return false
			}
			if _, err := Pinned(ctx, allowed, to.Reaches()); err != nil {
				out.Live = append(out.Live, client.CheckedLive{Of: s.Name, Says: err.Error()})
				return true
			}
			return false
		})
	}
	out.Live = append(out.Live, CheckLive(ctx, settings, wait)...)
	return out, nil
}

// PlanOf plans the configuration of a running service, with the facts that its gateway has heard and learned.
func PlanOf(g *gateway.Gateway, file string, heard []client.Series) (client.Plan, error) {
	settings, err := config.Load(file, kinds.All)
	if err != nil {
		return client.Plan{}, Wrong{err}
	}
	return MakePlan(settings, heard, g.Pipe, FreeOn(settings.Data))
}

// HeardFor is how far back the counts are of that HowOften takes.
const HeardFor = time.Hour

// HowOften are series with how often they were heard by the readings that came of each in the last
// hour; it counts all of them, where what is learned goes by the last few. of are the series, with
// those counts.
func HowOften(of []client.Series, counts map[string]float64, now time.Time) []client.Series {
	out := slices.Clone(of)
	for i, s := range out {
		over := HeardFor
		if s.FirstSeen != nil {
			over = min(over, now.Sub(*s.FirstSeen))
		}
		if n := counts[s.Path]; n >= fewestHeard && over > 0 {
			out[i].Every = span.Format(max(time.Millisecond, time.Duration(float64(over)/n).Round(time.Millisecond)))
		}
	}
	return out
}

const fewestHeard = 5

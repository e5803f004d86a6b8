package fieldwork

import (
	"cmp"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"nexocumula/client"
	"nexocumula/internal/config"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
)

// rowBytes are the bytes of a row in a sealed store, measured on three days of the demo's water and
// pumps, read every 5 s with some milliseconds of jitter.
type rowBytes struct{ reading, tenSeconds, wider float64 }

var bytesOf = map[series.Kind]rowBytes{
	series.Gauge: {2.3, 28, 37}, series.Counter: {1.9, 16, 24}, series.State: {1.8, 13, 17}, series.Bearing: {2.1, 25, 48},
}

func (b rowBytes) summary(tier series.Tier) float64 {
	if tier <= series.TenSecond {
		return b.tenSeconds
	}
	return b.wider
}

// What an uplink takes, measured on the demo's three sites.
const (
	rowOnWire   = 21.0             // bytes of a summary
	runOnWire   = 3.0              // of what is said once of a series' tier in a batch
	batchOnWire = 1720.0           // of a request and its answer
	sendsEvery  = 10 * time.Second // unless it is to be rarer: as often as there are summaries of the narrowest tier
	aliveOnWire = 980.0            // in that time, of what is said and asked between two batches where they are not to be rarer
)

// What a central needs beside its store, measured with 100 gateways.
const (
	centralMemory = 45e6   // bytes, with nothing to do
	seriesMemory  = 1400.0 // of each series
)

// MakeCentralPlan reckons what a central costs that these gateways send to.
func MakeCentralPlan(gateways []config.Settings, free float64) (client.Plan, error) {
	out := client.Plan{
		Lines: []client.PlannedLine{}, Summaries: []client.PlannedTier{}, Uplinks: []client.PlannedUse{}, Unknown: []string{}, Free: free,
		Assumes: []string{
			"rows of the size they have in the demo; steadier values take less, noise takes more",
			"nothing is dropped for its age yet", "every gateway sends all its tiers, of all its series",
		},
	}
	rows := map[string]float64{}
	for _, g := range gateways {
		one, summaries, err := plan(g, nil, nil, 0)
		if err != nil {
			return out, err
		}
		out.Series += one.Series
		used := client.PlannedUse{Name: g.Gateway.Site}
		for _, u := range one.Uplinks {
			used.Bytes += u.Bytes
		}
		out.Uplinks = append(out.Uplinks, used)
		out.Disk += summaries
		for _, t := range one.Summaries {
			rows[t.Tier] += t.Rows
		}
		for _, text := range one.Unknown {
			out.Unknown = append(out.Unknown, g.Gateway.Site+": "+text)
		}
	}
	byWidth := func(a, b string) int {
		wide, _ := span.Parse(a) // as Tier writes them
		wider, _ := span.Parse(b)
		return cmp.Compare(wide, wider)
	}
	for _, tier := range slices.SortedFunc(maps.Keys(rows), byWidth) {
		out.Summaries = append(out.Summaries, client.PlannedTier{Tier: tier, Rows: rows[tier]})
	}
	out.Memory = centralMemory + seriesMemory*float64(out.Series)
	if out.Disk > 0 {
		out.Outage = free / out.Disk
	}
	return out, nil
}

// MakePlan reckons what a gateway's configuration costs. Of sources that do not ask, what a running
// gateway has heard may be known; without, they are left out. pipe has what that learned of devices; nil:
// nothing is known. free is what the disk has.
func MakePlan(settings config.Settings, heard []client.Series, pipe *pipeline.Pipeline, free float64) (client.Plan, error) {
	out, _, err := plan(settings, heard, pipe, free)
	return out, err
}

// plan also returns how many bytes a day are of summaries.
func plan(settings config.Settings, heard []client.Series, pipe *pipeline.Pipeline, free float64) (out client.Plan, summaries float64, err error) {
	g := settings.Gateway
	if g == nil {
		return client.Plan{}, 0, wrong("the configuration describes no gateway")
	}
	out = client.Plan{Lines: []client.PlannedLine{}, Summaries: []client.PlannedTier{}, Uplinks: []client.PlannedUse{}, Unknown: []string{}, Free: free}
	tiers := map[series.Tier]float64{}
	narrowest := series.Tier(24 * time.Hour)
	known := map[series.Path]bool{}
	var points []float64
	messages := false
	var rows []summaryRows
	count := func(path series.Path, kind series.Kind, every time.Duration, made []series.Tier) {
		out.Series++
		perDay := float64(24*time.Hour) / float64(every)
		out.Readings += perDay
		out.Disk += perDay * bytesOf[kind].reading
		narrowest = min(narrowest, made[0])
		for _, tier := range made {
			n := min(perDay, aDay/float64(tier.Width()))
			tiers[tier] += n
			rows = append(rows, summaryRows{path, tier, n})
			summaries += n * bytesOf[kind].summary(tier)
		}
	}
	add := func(path series.Path, every time.Duration) {
		if known[path] || every <= 0 {
			return
		}
		rule := config.RuleFor(g.Rules, path)
		def := rule.Define(path)
		made := def.Tiers.All()
		known[path] = true
		count(path, rule.Kind, every, made)
		if quality := path + "/" + config.QualityLevel; rule.Marks() {
			known[quality] = true
			count(quality, series.State, every, made)
		}
	}
	for _, s := range g.Sources {
		opened := s.Settings.(source.Settings).Open(s.Name, pipe, slog.New(slog.DiscardHandler))
		planner, ok := opened.(source.Planner)
		if !ok {
			messages = true
			if heard == nil {
				out.Unknown = append(out.Unknown,
					fmt.Sprintf("source %s: how much comes is up to its senders; --at a running gateway tells what it has heard",
						s.Name))
			}
			continue
		}
		plan := planner.Plan()
		points = append(points, plan.Points...)
		out.Lines = append(out.Lines, client.PlannedLine{
			Source:   s.Name,
			Address:  opened.Tally().Address,
			Requests: plan.Requests,
			Busy:     plan.Busy,
		})
		for _, one := range plan.Series {
			add(one.Path, one.Every)
		}
	}
	rarely := 0
	for _, s := range heard {
		if !strings.HasPrefix(s.Path, g.Site+"/") || known[series.Path(s.Path)] {
			continue
		}
		if every, err := span.Parse(s.Every); err == nil {
			add(series.Path(s.Path), every)
		} else if !strings.HasSuffix(s.Path, "/"+config.QualityLevel) {
			rarely++
		}
	}
	if messages {
		out.Unknown = append(out.Unknown,
			"commits of messages: one that comes alone has its own, those that come within a tenth of a second share one")
	}
	if rarely > 0 {
		out.Unknown = append(out.Unknown,
			fmt.Sprintf("%d series that were not heard often enough yet to tell how often they come", rarely))
	}
	for _, tier := range slices.Sorted(maps.Keys(tiers)) {
		out.Summaries = append(out.Summaries, client.PlannedTier{Tier: tier.String(), Rows: tiers[tier]})
	}
	for _, u := range g.Uplinks {
		out.Uplinks = append(out.Uplinks, useOf(u, rows))
	}
	out.Disk += summaries
	out.Commits = commitsOf(points, narrowest)
	if out.Disk > 0 {
		out.Outage = free / out.Disk
	}
	out.Assumes = []string{
		"every device answers, and gives all that is wanted of it together, but for what a running gateway has learned",
		"rows of the size they have in the demo; steadier values take less, noise takes more",
		"nothing is dropped for its age yet",
	}
	if slices.ContainsFunc(g.Uplinks, func(u config.Uplink) bool { return u.Kind == "" && u.Limits.Every == 0 }) {
		out.Assumes = append(out.Assumes, "all summaries of a moment go together; where senders report at moments of their own, an uplink without limits.every takes up to half as much again")
	}
	if slices.ContainsFunc(g.Rules, func(r config.SeriesRule) bool { return r.Thinning.Method != 0 }) {
		out.Assumes = append(out.Assumes, "every reading is kept; how many thinning leaves shows once they come")
	}
	return out, summaries, nil
}

// commitsOf returns how many commits an hour schedules with so many points an hour make: what is polled
// within a second shares one. All summaries of the narrowest tier have one of their own.
func commitsOf(points []float64, narrowest series.Tier) (out float64) {
	alone := 1.0 // share of the seconds in which no schedule before had a point
	for _, p := range points {
		out += p * alone
		alone *= max(0, 1-p/3600)
	}
	if len(points) > 0 {
		out += float64(time.Hour) / float64(narrowest.Width())
	}
	return out
}

// FreeOn returns how many bytes the disk has free that a folder is on, or would be.
func FreeOn(folder string) float64 {
	for {
		var fs unix.Statfs_t
		err := unix.Statfs(folder, &fs)
		if err == nil {
			return float64(fs.Bavail) * float64(fs.Bsize)
		}
		above := filepath.Dir(folder)
		if !os.IsNotExist(err) || above == folder {
			return 0
		}
		folder = above
	}
}

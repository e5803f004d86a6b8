package config

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
)

// leastKept leaves late readings time to be summarised.
const leastKept = 24 * time.Hour

func (raw keepFile) check(at shape.Place) Keep {
	out := Keep{
		Select: shape.Parsed(at.Key("select"), raw.Select, series.ParseSelector),
		Tier:   shape.Parsed(at.Key("tier"), raw.Tier, parseTier),
		For:    shape.Parsed(at.Key("for"), raw.For, span.Parse),
	}
	if out.For != 0 && out.For < leastKept {
		at.Key("for").Wrong("%s is too short: keep rows for %s at least, so that late readings can still be summarised",
			raw.For, span.Format(leastKept))
	}
	return out
}

// parseTier reads readings, or the width of a tier.
func parseTier(text string) (series.Tier, error) {
	if text == series.Readings.String() {
		return series.Readings, nil
	}
	t, err := series.ParseTier(text)
	if err != nil {
		return 0, fmt.Errorf("tier %q: write readings, or the width of a tier, such as 10s or 1m", text)
	}
	return t, nil
}

// checkTiers wants every tier that is kept for a time, or sent, to be made of some series.
func (g *Gateway) checkTiers(at shape.Place) {
	made := slices.Clone(series.Tiers{}.All()) // of series that no rule names
	for _, r := range g.Rules {
		made = append(made, r.Tiers.All()...)
	}
	slices.Sort(made)
	made = slices.Compact(made)
	if len(made) > series.MostWidths {
		at.Key("gateway").Key("series").Wrong("there are %d different tiers; at most %d are possible", len(made),
			series.MostWidths)
	}
	missing := func(at shape.Place, t series.Tier) {
		if t != series.Readings && !slices.Contains(made, t) {
			at.Wrong("tier %s is not made of any series; there are readings and %s", t,
				strings.Join(series.TierTexts(made), ", "))
		}
	}
	for i, k := range g.Keep {
		missing(at.Key("keep").Item(i).Key("tier"), k.Tier)
	}
	for i, u := range g.Uplinks {
		for k, t := range u.Tiers {
			missing(at.Key("gateway").Key("uplinks").Item(i).Key("tiers").Item(k), t)
		}
	}
}

// Limits of a query where the file says nothing.
var defaultQueries = Queries{MaxRows: 500_000, MaxSeries: 10_000, MaxTime: 30 * time.Second}

func (raw queriesFile) check(at shape.Place) Queries {
	out := defaultQueries
	for _, n := range []struct {
		key string
		raw *int
		to  *int
	}{{"max_rows", raw.MaxRows, &out.MaxRows}, {"max_series", raw.MaxSeries, &out.MaxSeries}} {
		if n.raw == nil {
			continue
		}
		if *n.raw < 1 || *n.raw > 10_000_000 {
			at.Key(n.key).Wrong("%d is not possible; use 1 to 10000000", *n.raw)
		}
		*n.to = *n.raw
	}
	out.MaxTime = at.Key("max_time").Duration(raw.MaxTime, out.MaxTime)
	return out
}

// KeptFor returns how long rows of a series and tier are kept; 0: for good.
func KeptFor(keep []Keep, path series.Path, tier series.Tier) time.Duration {
	i := slices.IndexFunc(keep, func(k Keep) bool { return k.Tier == tier && k.Select.Match(path) })
	if i < 0 {
		return 0
	}
	return keep[i].For
}

package config

import (
	"slices"
	"time"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
)

// leastKept leaves late readings time to be summarised.
const leastKept = 24 * time.Hour

func (raw keepFile) check(at shape.Place) Keep {
	out := Keep{
		Select: shape.Parsed(at.Key("select"), raw.Select, series.ParseSelector),
		Tier:   shape.Parsed(at.Key("tier"), raw.Tier, ParseTier),
		For:    shape.Parsed(at.Key("for"), raw.For, span.Parse),
	}
	if out.For != 0 && out.For < leastKept {
		at.Key("for").Wrong("%s is too short: keep rows for %s at least, so that late readings can still be summarised", raw.For, span.Format(leastKept))
	}
	return out
}

// ParseTier reads readings, 10s or 1m.
func ParseTier(text string) (rollup.Tier, error) {
	for _, t := range append([]rollup.Tier{rollup.Readings}, rollup.Tiers...) {
		if text == t.String() {
			return t, nil
		}
	}
	return 0, errTier(text)
}

type errTier string

func (e errTier) Error() string {
	return "tier \"" + string(e) + "\" is not kept; the tiers are readings, 10s and 1m"
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

// KeptFor is how long rows of a series and tier are kept; 0: for good.
func KeptFor(keep []Keep, path series.Path, tier rollup.Tier) time.Duration {
	i := slices.IndexFunc(keep, func(k Keep) bool { return k.Tier == tier && k.Select.Match(path) })
	if i < 0 {
		return 0
	}
	return keep[i].For
}

package config

import (
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/series"
)

// Feeding is the settings of a source that knows which series it feeds.
type Feeding interface {
	// Feeds returns them; a source that may feed any series has a feed of the levels "#".
	Feeds() []Feed
}

// Feed is one series, or several of the same pattern, that a source feeds.
type Feed struct {
	Levels []string // of the path, "+" for what only messages tell
	Only   bool     // nothing else may feed this series
	Text   bool     // names of states come; of what is Only there nothing else
	At     shape.Place
}

func (f Feed) path() string { return strings.Join(f.Levels, "/") }

// exact reports whether the feed is of one series.
func (f Feed) exact() bool { return !slices.Contains(f.Levels, "+") && !slices.Contains(f.Levels, "#") }

// checkFeeds compares the rules with what sources feed.
func (g *Gateway) checkFeeds(at shape.Place) {
	var all []Feed
	known := true // what all sources feed
	for _, s := range g.Sources {
		of, ok := s.Settings.(Feeding)
		if !ok {
			known = false
			continue
		}
		all = append(all, of.Feeds()...)
	}
	known = known && !slices.ContainsFunc(all, func(f Feed) bool { return f.path() == "#" })
	g.checkDoubles(all)
	g.checkTexts(all)
	for i, r := range g.Rules {
		g.checkSelector(at.Key("series").Item(i), i, r, all, known)
	}
}

// checkDoubles finds series with two places.
func (g *Gateway) checkDoubles(all []Feed) {
	first := map[string]Feed{}
	for _, f := range all {
		before, there := first[f.path()]
		if !there || !before.Only && !f.Only {
			first[f.path()] = f
			continue
		}
		if f.exact() {
			f.At.Key("series").Wrong("%s is fed from another place already; of one moment a series has one value, so give this one a name of its own",
				f.path())
		}
	}
}

// checkTexts finds texts whose series have no names for them.
func (g *Gateway) checkTexts(all []Feed) {
	for _, f := range all {
		if !f.Text || f.path() == "#" {
			continue
		}
		if f.exact() {
			r := RuleOf(g.Rules, series.Path(f.path()))
			if r.Kind == series.State || r.Discover > 0 {
				continue
			}
		} else if slices.ContainsFunc(g.Rules, func(r SeriesRule) bool {
			return (r.Kind == series.State || r.Discover > 0) && series.Meet(r.Select.Levels(), f.Levels)
		}) {
			continue
		}
		tell := f.At.Key("series").Advise
		if f.Only { // nothing but texts comes
			tell = f.At.Key("series").Wrong
		}
		tell("a text comes here, and is rejected, as no rule of gateway.series says that %s is a state; add { select: %s, kind: state, states: { … } } with its names",
			f.path(), f.path())
	}
}

// checkSelector finds a rule that names nothing, or nothing that no rule before it names.
func (g *Gateway) checkSelector(at shape.Place, i int, r SeriesRule, all []Feed, known bool) {
	at = at.Key("select")
	levels := r.Select.Levels()
	if len(levels) == 0 {
		return // wrong already
	}
	if first := levels[0]; first != "+" && first != "#" && first != g.Site {
		at.Wrong("%s names no series: those of this gateway begin with %s/; write %s", r.Select, g.Site,
			strings.Join(append([]string{"+"}, levels...), "/"))
		return
	}
	for k, other := range g.Rules[:i] {
		if other.Discover == 0 && r.Discover == 0 && len(other.Select.Levels()) > 0 &&
			series.Covers(other.Select.Levels(), levels) {
			at.Advise("the rule never counts: the first that names a series does, and gateway.series[%d], %s, names all of this one before",
				k, other.Select)
			return
		}
	}
	if !known || r.Derive != nil || r.Discover > 0 || levels[len(levels)-1] == "quality" || len(all) == 0 {
		return
	}
	if !slices.ContainsFunc(all, func(f Feed) bool { return series.Meet(levels, f.Levels) }) {
		at.Advise("%s names none of the series that the sources feed%s", r.Select, nearest(levels, all))
	}
}

// nearest suggests what is spelled most like a selector.
func nearest(levels []string, all []Feed) string {
	best, distance := "", 4
	for _, f := range all {
		trial := slices.Clone(levels)
		if len(f.Levels) != len(levels) {
			continue
		}
		sum := 0
		for i, level := range trial {
			if level == "+" || level == "#" || f.Levels[i] == "+" {
				continue
			}
			sum += levenshtein.ComputeDistance(level, f.Levels[i])
			trial[i] = f.Levels[i]
		}
		if sum < distance {
			best, distance = strings.Join(trial, "/"), sum
		}
	}
	if best == "" {
		return ""
	}
	return "; did you mean " + best + "?"
}

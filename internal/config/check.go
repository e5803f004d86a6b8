package config

import (
	"log/slog"
	"slices"
	"strings"
	"time"

	"nexocumula/internal/clock"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
	"nexocumula/internal/plain"
)

func (raw file) check(at shape.Place, kinds Kinds) Settings {
	if raw.Data == "" {
		at.Key("data").Wrong("say in which folder the store is, such as ./data/long-mere")
	}
	if raw.Listen == "" {
		raw.Listen = "127.0.0.1:8460"
	}
	at.Key("listen").HostPort(raw.Listen)
	if raw.Gateway == nil && raw.Central == nil {
		at.Wrong("the file has neither gateway: nor central:, so the service would do nothing")
	}
	out := Settings{
		Data:    raw.Data,
		Listen:  raw.Listen,
		TLS:     raw.TLS.check(at.Key("tls")),
		Gateway: raw.Gateway.check(at.Key("gateway"), kinds, raw.Listen),
		Central: raw.Central.check(at.Key("central"), kinds),
		Queries: raw.Queries.check(at.Key("queries")),
	}
	out.Field = raw.Field.check(at.Key("field"))
	out.Access = raw.Access.check(at, &raw)
	out.AwayFor = at.Key("away_for").Duration(raw.AwayFor, clock.DefaultAway)
	out.Log = raw.Log.check(at.Key("log"))
	out.Backup = raw.Backup.check(at.Key("backup"), raw.Data)
	out.Room = raw.Room.check(at.Key("room"))
	out.Zone = raw.Zone
	if _, err := plain.Zone(out.Zone); err != nil {
		at.Key("zone").Wrong("%v", err)
	}
	if raw.GiveUp != "" {
		out.GiveUp = at.Key("give_up_unsent_after").Duration(raw.GiveUp, 0)
	}
	for i, k := range raw.Keep {
		out.Keep = append(out.Keep, k.check(at.Key("keep").Item(i)))
	}
	if out.Gateway != nil {
		out.Gateway.Keep = out.Keep
		for i, k := range out.Keep {
			if levels := k.Select.Levels(); out.Central == nil && len(levels) > 0 && levels[0] != "+" &&
				levels[0] != "#" && levels[0] != out.Gateway.Site {
				at.Key("keep").Item(i).Key("select").Advise("%s names no series of this gateway, which begin with %s/",
					k.Select, out.Gateway.Site)
			}
		}
		out.Gateway.checkTiers(at)
	}
	return out
}

func (raw logFile) check(at shape.Place) (out Log) {
	switch raw.Format {
	case "", "text":
	case "json":
		out.JSON = true
	default:
		at.Key("format").Wrong("%q is no format of a log; use text or json", raw.Format)
	}
	if raw.Level != "" {
		levels := map[string]slog.Level{
			"debug": slog.LevelDebug, "info": slog.LevelInfo, "warn": slog.LevelWarn, "error": slog.LevelError,
		}
		level, known := levels[raw.Level]
		if !known {
			at.Key("level").Wrong("%q is no level of a log; use debug, info, warn or error", raw.Level)
		}
		out.Level = level
	}
	return out
}

func (raw *gatewayFile) check(at shape.Place, kinds Kinds, listen string) *Gateway {
	if raw == nil {
		return nil
	}
	g := &Gateway{Site: raw.Site, Pace: raw.Pace.check(at.Key("pace"))}
	wrongSite := series.CheckLevel(raw.Site)
	if wrongSite != nil {
		at.Key("site").Wrong("the site's name, the first level of all its series, %v", wrongSite)
		raw.Site = "site" // what follows of that is not told again
	}
	if g.Console = strings.TrimRight(raw.Console, "/"); g.Console != "" && plain.Console(g.Console) == "" {
		at.Key("console").Wrong("%q is not the address of a console; write http://host:port or https://host:port",
			raw.Console)
	}
	for i, r := range raw.Series {
		g.Rules = append(g.Rules, r.check(at.Key("series").Item(i)))
	}
	checkDerived(at.Key("series"), g.Rules)
	var names []string
	needed, reached := map[string]string{}, map[string]string{}
	for _, part := range raw.Sources {
		s := source(part, raw.Site, kinds.Sources)
		names = unique(part.Key("name"), s.Name, names)
		if n, ok := s.Settings.(Needing); ok && n.Needs(s.Name) != "" {
			what := n.Needs(s.Name)
			if other, taken := needed[what]; taken {
				part.Wrong("sources %q and %q use the same %s", other, s.Name, what)
			}
			needed[what] = s.Name
			if what == "address "+listen {
				part.Wrong("source %q would listen at %s, where the service's own HTTP interface does (listen:)",
					s.Name, listen)
			}
		}
		if to, ok := s.Settings.(interface{ Reaches() string }); ok {
			address := to.Reaches()
			if other, taken := reached[address]; taken && needed[address] == "" {
				part.Advise("sources %q and %q both connect to %s: what both ask for is collected twice, and many devices take one connection only. One source can do it all",
					other, s.Name, address)
			}
			reached[address] = s.Name
		}
		g.Sources = append(g.Sources, s)
	}
	g.Uplinks = uplinks(raw.Uplinks, kinds.Uplinks)
	if wrongSite == nil {
		g.checkFeeds(at)
	}
	return g
}

const longestPace = time.Minute

func (raw paceFile) check(at shape.Place) CommitDelay {
	out := CommitDelay{
		Messages: at.Key("messages").Duration(raw.Messages, 100*time.Millisecond),
		Polls:    at.Key("polls").Duration(raw.Polls, time.Second),
	}
	if out.Messages > longestPace || out.Polls > longestPace {
		at.Wrong("what arrives may wait for %s at most before it is on disk", span.Format(longestPace))
	}
	return out
}

func unique(at shape.Place, name string, taken []string) []string {
	if err := series.CheckLevel(name); err != nil {
		at.Wrong("the name %v", err)
	} else if slices.Contains(taken, name) {
		at.Wrong("the name %q is used twice", name)
	}
	return append(taken, name)
}

// How many series a central keeps, unless told otherwise.
const (
	DefaultMaxSeries          = 200_000
	DefaultMaxSeriesOfGateway = 20_000
)

func (raw *centralFile) check(at shape.Place, kinds Kinds) *Central {
	if raw == nil {
		return nil
	}
	out := &Central{Name: raw.Name, Uplinks: uplinks(raw.Uplinks, kinds.Uplinks)}
	for _, limit := range []struct {
		key   string
		raw   *int
		out   *int
		usual int
	}{
		{"max_series", raw.MaxSeries, &out.MaxSeries, DefaultMaxSeries},
		{"max_series_of_gateway", raw.MaxSeriesOfGateway, &out.MaxSeriesOfGateway, DefaultMaxSeriesOfGateway},
	} {
		if *limit.out = limit.usual; limit.raw != nil {
			*limit.out = at.Key(limit.key).Count(*limit.raw, limit.usual, 1, 10_000_000, "series are")
		}
	}
	if len(out.Uplinks) > 0 || raw.Name != "" {
		if err := series.CheckLevel(raw.Name); err != nil {
			at.Key("name").Wrong("the name under which centrals above know this one %v", err)
		}
	}
	var names []string
	for i, r := range raw.Accept {
		at := at.Key("accept").Item(i)
		names = unique(at.Key("gateway"), r.Gateway, names)
		if len(r.Sites) == 0 {
			r.Sites = []string{r.Gateway}
		}
		for k, site := range r.Sites {
			if err := series.CheckLevel(site); err != nil {
				at.Key("sites").Item(k).Wrong("the site's name, the first level of its series, %v", err)
			}
		}
		out.Accept = append(out.Accept, Accept{Gateway: r.Gateway, Sites: r.Sites, Token: at.Secret(r.Secret, true)})
	}
	return out
}

// RuleFor returns the first rule that matches a series, or what counts without one.
func RuleFor(rules []SeriesRule, path series.Path) SeriesRule { return *RuleOf(rules, path) }

// Usual reports whether a rule is the one for series that no rule names.
func (r *SeriesRule) Usual() bool { return r == &otherwise }

// RuleOf returns the same rule as RuleFor. It is shared: do not change it.
func RuleOf(rules []SeriesRule, path series.Path) *SeriesRule {
	found := &otherwise
	for i := range rules {
		rule := &rules[i]
		switch {
		case rule.Discover > 0 && found.Discover > 0 || !rule.Select.Match(path):
		case rule.Discover > 0:
			found = rule // unless another names it
		default:
			return rule
		}
	}
	return found
}

var otherwise = SeriesRule{
	Definition: series.Definition{Kind: series.Gauge, FreshFor: series.DefaultFreshFor},
	Limits:     screen.Limits{MaxAhead: screen.DefaultMaxAhead},
}

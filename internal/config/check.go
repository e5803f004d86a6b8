package config

import (
	"fmt"
	"net"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"nexocumula/internal/clock"
	"nexocumula/internal/core/calibrate"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
)

func (c *checker) settings(raw file) Settings {
	if raw.Data == "" {
		c.report("$.data", "say in which folder the store is, such as ./data/long-mere")
	}
	if raw.Listen == "" {
		raw.Listen = "127.0.0.1:8460"
	}
	c.hostPort("$.listen", raw.Listen)
	if raw.Gateway == nil && raw.Central == nil {
		c.report("$", "the file has neither gateway: nor central:, so the service would do nothing")
	}
	out := Settings{Data: raw.Data, Listen: raw.Listen, Gateway: c.gateway(raw.Gateway), Central: c.central(raw.Central), Queries: c.queries(raw.Queries), Tiers: rollup.Tiers}
	out.AwayFor = c.duration("$.away_for", raw.AwayFor, clock.DefaultAway)
	if raw.GiveUp != "" {
		out.GiveUp = c.duration("$.give_up_unsent_after", raw.GiveUp, 0)
	}
	for i, k := range raw.Keep {
		out.Keep = append(out.Keep, c.keep(fmt.Sprintf("$.keep[%d]", i), k))
	}
	if out.Gateway != nil {
		out.Gateway.Keep, out.Gateway.Tiers = out.Keep, out.Tiers
	}
	return out
}

func (c *checker) gateway(raw *gatewayFile) *Gateway {
	if raw == nil {
		return nil
	}
	g := &Gateway{Site: raw.Site, Pace: c.pace("$.gateway.pace", raw.Pace)}
	if err := series.CheckLevel(raw.Site); err != nil {
		c.report("$.gateway.site", "the site's name, the first level of all its series, %v", err)
	}
	for i, r := range raw.Series {
		g.Rules = append(g.Rules, c.rule(fmt.Sprintf("$.gateway.series[%d]", i), r))
	}
	var names []string
	for i, r := range raw.Sources {
		at := fmt.Sprintf("$.gateway.sources[%d]", i)
		names = c.unique(at+".name", r.Name, names)
		g.Sources = append(g.Sources, c.source(at, raw.Site, r))
	}
	g.Uplinks = c.uplinks("$.gateway.uplinks", raw.Uplinks)
	return g
}

const longestPace = time.Minute

func (c *checker) pace(at string, raw paceFile) Pace {
	out := Pace{
		Messages: c.duration(at+".messages", raw.Messages, 100*time.Millisecond),
		Polls:    c.duration(at+".polls", raw.Polls, time.Second),
	}
	if out.Messages > longestPace || out.Polls > longestPace {
		c.report(at, "what arrives may wait for %s at most before it is on disk", span.Format(longestPace))
	}
	return out
}

func (c *checker) uplinks(at string, raw []uplinkFile) (out []Uplink) {
	var names []string
	for i, r := range raw {
		at := fmt.Sprintf("%s[%d]", at, i)
		names = c.unique(at+".name", r.Name, names)
		out = append(out, c.uplink(at, r))
	}
	return out
}

func (c *checker) unique(at, name string, taken []string) []string {
	if err := series.CheckLevel(name); err != nil {
		c.report(at, "the name %v", err)
	} else if slices.Contains(taken, name) {
		c.report(at, "the name %q is used twice", name)
	}
	return append(taken, name)
}

func (c *checker) rule(at string, raw seriesFile) Rule {
	out := Rule{Unit: raw.Unit, Limits: screen.Limits{Low: raw.Low, High: raw.High}}
	out.Select = parsed(c, at+".select", raw.Select, series.ParseSelector)
	out.Kind = parsed(c, at+".kind", raw.Kind, series.ParseKind)
	out.FreshFor = c.duration(at+".fresh_for", raw.FreshFor, series.DefaultFreshFor)
	out.Limits.MaxAhead = c.duration(at+".max_ahead", raw.MaxAhead, screen.DefaultMaxAhead)
	out.Wrap = raw.Wrap
	if !(raw.Wrap >= 0 && raw.Wrap <= 1<<53) || raw.Wrap != 0 && out.Kind != series.Counter {
		c.report(at+".wrap", "wrap says how many steps a counter has, such as 65536; this series is a %s", out.Kind)
	}
	if out.Sketch = raw.Sketch; raw.Sketch && (out.Kind == series.Bearing || out.Kind == series.State) {
		c.report(at+".sketch", "a sketch estimates percentiles, which a %s does not have", out.Kind)
	}
	out.Labels = parsed(c, at+".labels", raw.Labels, series.MakeLabels)
	if raw.Low != nil && raw.High != nil && *raw.Low > *raw.High {
		c.report(at+".low", "the low end %v is above the high end %v", *raw.Low, *raw.High)
	}
	return out
}

func (c *checker) uplink(at string, raw uplinkFile) Uplink {
	out := Uplink{Name: raw.Name, Address: strings.TrimRight(raw.Address, "/"), Token: c.secret(at, raw.Secret, true)}
	if u, err := url.Parse(raw.Address); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		c.report(at+".address", "%q is not the address of a central; write http://host:port or https://host:port", raw.Address)
	}
	for i, text := range raw.Tiers {
		width := parsed(c, fmt.Sprintf("%s.tiers[%d]", at, i), text, span.Parse)
		if width != 0 && !slices.Contains(rollup.Tiers, rollup.Tier(width)) {
			c.report(fmt.Sprintf("%s.tiers[%d]", at, i), "tier %s is not kept; the tiers are 10s and 1m", text)
		}
		out.Tiers = append(out.Tiers, rollup.Tier(width))
	}
	if len(out.Tiers) == 0 {
		out.Tiers = rollup.Tiers
	}
	return out
}

func (c *checker) central(raw *centralFile) *Central {
	if raw == nil {
		return nil
	}
	out := &Central{Name: raw.Name, Uplinks: c.uplinks("$.central.uplinks", raw.Uplinks)}
	if len(out.Uplinks) > 0 || raw.Name != "" {
		if err := series.CheckLevel(raw.Name); err != nil {
			c.report("$.central.name", "the name under which centrals above know this one %v", err)
		}
	}
	var names []string
	for i, r := range raw.Accept {
		at := fmt.Sprintf("$.central.accept[%d]", i)
		names = c.unique(at+".gateway", r.Gateway, names)
		if len(r.Sites) == 0 {
			r.Sites = []string{r.Gateway}
		}
		for k, site := range r.Sites {
			if err := series.CheckLevel(site); err != nil {
				c.report(fmt.Sprintf("%s.sites[%d]", at, k), "the site's name, the first level of its series, %v", err)
			}
		}
		out.Accept = append(out.Accept, Accept{Gateway: r.Gateway, Sites: r.Sites, Token: c.secret(at, r.Secret, true)})
	}
	return out
}

// secret reads a secret from where the file says it is.
func (c *checker) secret(at string, s Secret, needed bool) string {
	switch {
	case s.File != "" && s.Env != "":
		c.report(at+".secret_env", "give secret_file or secret_env, not both")
	case s.File != "":
		text, err := os.ReadFile(s.File)
		if err != nil {
			c.report(at+".secret_file", "the secret cannot be read: %v", err)
		} else if strings.TrimSpace(string(text)) == "" {
			c.report(at+".secret_file", "the file %s is empty where a secret should be", s.File)
		}
		return strings.TrimSpace(string(text))
	case s.Env != "":
		text := os.Getenv(s.Env)
		if text == "" {
			c.report(at+".secret_env", "the environment variable %s is not set", s.Env)
		}
		return text
	case needed:
		c.report(at+".secret_file", "a secret is needed: give secret_file: with a file that holds it, or secret_env: with a variable's name")
	}
	return ""
}

func (c *checker) hostPort(at, address string) {
	if _, port, err := net.SplitHostPort(address); err != nil || port == "" {
		c.report(at, "%q is not an address to listen at; write host:port, such as 127.0.0.1:8460", address)
	}
}

func (c *checker) tcpAddress(at, address string) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "tcp" || u.Hostname() == "" || u.Port() == "" {
		c.report(at, "%q is not the address of a device; write tcp://host:port", address)
	}
}

func (c *checker) duration(at, text string, otherwise time.Duration) time.Duration {
	if text == "" {
		return otherwise
	}
	return parsed(c, at, text, span.Parse)
}

func linear(scale *float64, offset float64) calibrate.Curve {
	l := calibrate.Linear{Scale: 1, Offset: offset}
	if scale != nil {
		l.Scale = *scale
	}
	return l
}

// parsed reports what parse says of what stands at a place.
func parsed[F, T any](c *checker, at string, from F, parse func(F) (T, error)) T {
	v, err := parse(from)
	if err != nil {
		c.report(at, "%v", err)
	}
	return v
}

// RuleFor is the first rule that matches a series, or what counts without one.
func RuleFor(rules []Rule, path series.Path) Rule {
	for _, r := range rules {
		if r.Select.Match(path) {
			return r
		}
	}
	return Rule{Kind: series.Gauge, FreshFor: series.DefaultFreshFor, Limits: screen.Limits{MaxAhead: screen.DefaultMaxAhead}}
}

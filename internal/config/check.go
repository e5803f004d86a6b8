package config

import (
	"fmt"
	"net"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"nexocumula/internal/core/calibrate"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
)

const defaultMaxAhead = 5 * time.Minute

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
	out := Settings{Data: raw.Data, Listen: raw.Listen, Gateway: c.gateway(raw.Gateway), Central: c.central(raw.Central), Queries: c.queries(raw.Queries)}
	for i, k := range raw.Keep {
		out.Keep = append(out.Keep, c.keep(fmt.Sprintf("$.keep[%d]", i), k))
	}
	if out.Gateway != nil {
		out.Gateway.Keep = out.Keep
	}
	return out
}

func (c *checker) gateway(raw *gatewayFile) *Gateway {
	if raw == nil {
		return nil
	}
	g := &Gateway{Site: raw.Site}
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
	names = nil
	for i, r := range raw.Uplinks {
		at := fmt.Sprintf("$.gateway.uplinks[%d]", i)
		names = c.unique(at+".name", r.Name, names)
		g.Uplinks = append(g.Uplinks, c.uplink(at, r))
	}
	return g
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
	out.Limits.MaxAhead = c.duration(at+".max_ahead", raw.MaxAhead, defaultMaxAhead)
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
	out := &Central{}
	var names []string
	for i, r := range raw.Accept {
		at := fmt.Sprintf("$.central.accept[%d]", i)
		names = c.unique(at+".gateway", r.Gateway, names)
		out.Accept = append(out.Accept, Accept{Gateway: r.Gateway, Token: c.secret(at, r.Secret, true)})
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

func linear(scale *float64, offset float64) calibrate.Linear {
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

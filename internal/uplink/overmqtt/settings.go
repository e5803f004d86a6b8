package overmqtt

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"nexocumula/internal/certs"
	"nexocumula/internal/config"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/series"
	"nexocumula/internal/uplink"
)

// Forms of payloads.
const (
	senMLJSON = "senml_json"
	senMLCBOR = "senml_cbor"
	sparkplug = "sparkplug"
)

// Settings are those of an uplink to a broker.
type Settings struct {
	address  *url.URL
	clientID string
	user     string
	password string
	version  byte
	tls      *certs.Holder // nil: none
	server   string        // that the broker's certificate must be for

	form   string
	topic  string // template of summaries
	latest string // of latest values, which are retained; "": none
	stats  []string

	group, node, primary string // of Sparkplug
}

type file struct {
	Address      string            `yaml:"address" is:"required" says:"tcp://host:port, or tls://host:port"`
	TLS          *config.ClientTLS `yaml:"tls" says:"ca, cert, key and server_name, of an address that begins with tls://"`
	Version      string            `yaml:"version" is:"3.1.1" says:"of MQTT; or 5"`
	ClientID     string            `yaml:"client_id" is:"nexocumula-SITE-UPLINK" says:"what the broker knows this client by"`
	User         string            `yaml:"user" says:"name of the account there"`
	shape.Secret `yaml:",inline"`
	Payload      string     `yaml:"payload" is:"senml_json" says:"or senml_cbor, or sparkplug"`
	Topic        string     `yaml:"topic" is:"{path}/{tier}" says:"of summaries; {site}, {station}, {quantity}, {path} and {tier} stand for what they are of"`
	Latest       *string    `yaml:"latest" is:"{path}" says:"topic of the latest value of each series, which is retained; empty: none"`
	Stats        []string   `yaml:"stats" is:"[mean, min, max, count]" says:"what is published of each summary; also twa, first, last, sd, coverage, increase, restarts, changes"`
	Sparkplug    *sparkFile `yaml:"sparkplug" says:"of payload sparkplug"`
}

type sparkFile struct {
	Group   string `yaml:"group" is:"required" says:"that the edge node is of"`
	Node    string `yaml:"node" is:"the site" says:"name of the edge node"`
	Primary string `yaml:"primary_host" says:"host without which nothing is published; what waits stays here"`
}

// Kind has its keys below mqtt:.
var Kind = uplink.Kind("mqtt", "publishes summaries and latest values to an MQTT broker", check)

// known are the stats that can be published.
var known = []string{"count", "mean", "twa", "min", "max", "first", "last", "sd", "coverage", "increase", "restarts", "changes"}

func check(at shape.Place, raw file) uplink.Settings {
	u, err := url.Parse(raw.Address)
	if err != nil || u.Scheme != "tcp" && u.Scheme != "tls" || u.Hostname() == "" || u.Port() == "" {
		at.Key("address").Wrong("%q is not the address of a broker; write tcp://host:port, or tls://host:port", raw.Address)
		u = &url.URL{}
	}
	out := Settings{
		address: u, clientID: raw.ClientID, user: raw.User, password: at.Secret(raw.Secret, false), version: 4, server: u.Hostname(),
		form: raw.Payload, topic: raw.Topic, latest: "{path}", stats: raw.Stats,
	}
	if u.Scheme == "tls" && raw.TLS == nil {
		raw.TLS = &config.ClientTLS{}
	}
	holder, name := raw.TLS.Check(at.Key("tls"), u.Scheme == "tls")
	if out.tls = holder; name != "" {
		out.server = name
	}
	switch raw.Version {
	case "", "3.1.1":
	case "5", "5.0":
		out.version = 5
	default:
		at.Key("version").Wrong("version %s of MQTT is not known; use 3.1.1 or 5", raw.Version)
	}
	if out.form == "" {
		out.form = senMLJSON
	}
	if !slices.Contains([]string{senMLJSON, senMLCBOR, sparkplug}, out.form) {
		at.Key("payload").Wrong("payload %q is not known; use %s, %s or %s", out.form, senMLJSON, senMLCBOR, sparkplug)
	}
	if out.topic == "" {
		out.topic = "{path}/{tier}"
	}
	if raw.Latest != nil {
		out.latest = *raw.Latest
	}
	for key, template := range map[string]string{"topic": out.topic, "latest": out.latest} {
		if err := checkTemplate(template); err != nil {
			at.Key(key).Wrong("%v", err)
		}
	}
	if raw.Stats == nil {
		out.stats = []string{"mean", "min", "max", "count"}
	}
	for i, stat := range out.stats {
		if !slices.Contains(known, stat) {
			at.Key("stats").Item(i).Wrong("stat %q is not one of %s", stat, strings.Join(known, ", "))
		}
	}
	out.checkSpark(at, raw)
	return out
}

func (s *Settings) checkSpark(at shape.Place, raw file) {
	switch spark := raw.Sparkplug; {
	case spark == nil && s.form == sparkplug:
		at.Key("sparkplug").Wrong("payload sparkplug needs sparkplug: { group: NAME }")
	case spark == nil:
	case s.form != sparkplug:
		at.Key("sparkplug").Wrong("sparkplug: goes with payload: sparkplug")
	case raw.Topic != "" || raw.Latest != nil:
		at.Key("sparkplug").Wrong("Sparkplug has topics of its own; leave topic and latest out")
	default:
		s.group, s.node, s.primary = spark.Group, spark.Node, spark.Primary
		for key, name := range map[string]string{"group": s.group, "node": s.node, "primary_host": s.primary} {
			if strings.ContainsAny(name, "/+#") || name == "" && key == "group" {
				at.Key("sparkplug").Key(key).Wrong("%q is no name of Sparkplug; write one without /, + and #", name)
			}
		}
	}
}

// places are what templates may name.
var places = []string{"{site}", "{station}", "{quantity}", "{path}", "{tier}"}

func checkTemplate(template string) error {
	rest := template
	for _, p := range places {
		rest = strings.ReplaceAll(rest, p, "x")
	}
	if strings.ContainsAny(rest, "{}+#\x00") {
		return fmt.Errorf("%q is no topic: it has no + and #, and in braces only %s", template, strings.Join(places, ", "))
	}
	if template != "" && !strings.Contains(template, "{path}") &&
		!(strings.Contains(template, "{station}") && strings.Contains(template, "{quantity}")) {
		return fmt.Errorf("%q would be the topic of several series: name {path}, or {station} and {quantity}", template)
	}
	return nil
}

// fill returns the topic of a series.
func fill(template string, path series.Path, tier series.Tier) string {
	site, rest, _ := strings.Cut(string(path), "/")
	i := strings.LastIndex(rest, "/")
	return strings.NewReplacer("{site}", site, "{station}", rest[:max(i, 0)], "{quantity}", rest[i+1:], "{path}", string(path),
		"{tier}", tier.String()).Replace(template)
}

// Address says where it publishes.
func (s Settings) Address() string { return s.address.String() }

// Check connects once.
func (s Settings) Check(ctx context.Context, _, name string) (says string, works bool) {
	s.clientID = "nexocumula-check-" + name
	c, err := s.connect(ctx, nil)
	if err != nil {
		return err.Error(), false
	}
	c.close()
	return "the broker takes the connection", true
}

// Open makes the carrier.
func (s Settings) Open(o uplink.Opening) (uplink.Carrier, error) {
	if s.clientID == "" {
		s.clientID = "nexocumula-" + o.As + "-" + o.Uplink
	}
	if s.node == "" {
		s.node = o.As
	}
	return newCarrier(s, o)
}

var errLost = errors.New("the connection to the broker is lost")

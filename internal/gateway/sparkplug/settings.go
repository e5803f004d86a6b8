package sparkplug

import (
	"strings"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/calibrate"
	"nexocumula/internal/gateway/payload"
)

// Keys are the configuration keys of a source's sparkplug part.
type Keys struct {
	Host         string       `yaml:"host" is:"nexocumula" says:"id of the host application that nodes see as online"`
	Group        string       `yaml:"group" is:"all" says:"only edge nodes of this group"`
	Series       string       `yaml:"series" is:"{device}/{metric}" says:"of a device's metric; with {group}, {node}, {device} and {metric}, whose / makes levels and in which what no series may have becomes _"`
	NodeSeries   string       `yaml:"node_series" is:"{node}/{metric}" says:"of a metric of the edge node itself"`
	Metrics      []metricKeys `yaml:"metrics" is:"all" says:"list of metrics that are called otherwise, or scaled"`
	Presence     string       `yaml:"presence" says:"series that is 1 from a device's birth to its death and then 0, such as {device}/online"`
	NodePresence string       `yaml:"node_presence" says:"and of an edge node, such as {node}/online"`
}

type metricKeys struct {
	Name   string   `yaml:"name" is:"required" says:"as the birth has it, such as Pump 1/Flow"`
	Series string   `yaml:"series" is:"as of all" says:"with {group}, {node} and {device}"`
	Skip   bool     `yaml:"skip" is:"false" says:"true leaves it out"`
	Scale  *float64 `yaml:"scale" is:"1" says:"value × scale + offset"`
	Offset float64  `yaml:"offset" is:"0" says:""`
}

// Settings are checked.
type Settings struct {
	host, group            string
	device, node           payload.Template
	devicePresent, present payload.Template
	rules                  map[string]rule
}

// rule is the configuration of metrics with one name.
type rule struct {
	series    payload.Template
	skip      bool
	calibrate calibrate.Curve
}

// Check checks what a source says; nil is nothing.
func (raw *Keys) Check(at shape.Place, site string) *Settings {
	if raw == nil {
		return nil
	}
	template := func(key, text, otherwise string, names ...string) payload.Template {
		if text == "" {
			text = otherwise
		}
		if text == "" {
			return ""
		}
		out := shape.Parsed(at.Key(key), text,
			func(text string) (payload.Template, error) { return payload.ParseTemplate(text, names) })
		return payload.Template(site + "/" + string(out))
	}
	out := &Settings{
		host: raw.Host, group: raw.Group, rules: map[string]rule{},
		device:        template("series", raw.Series, "{device}/{metric}", "group", "node", "device", "metric"),
		node:          template("node_series", raw.NodeSeries, "{node}/{metric}", "group", "node", "metric"),
		devicePresent: template("presence", raw.Presence, "", "group", "node", "device"),
		present:       template("node_presence", raw.NodePresence, "", "group", "node"),
	}
	if out.host == "" {
		out.host = "nexocumula"
	}
	for key, id := range map[string]string{"host": out.host, "group": out.group} {
		if strings.ContainsAny(id, "/+#") {
			at.Key(key).Wrong("%q is no id of Sparkplug; leave out /, + and #", id)
		}
	}
	for i, m := range raw.Metrics {
		here := at.Key("metrics").Item(i)
		if m.Name == "" {
			here.Key("name").Wrong("say which metric")
		}
		if _, twice := out.rules[m.Name]; twice {
			here.Key("name").Wrong("the metric %q is there twice", m.Name)
		}
		one := rule{skip: m.Skip, calibrate: calibrate.NewLinear(m.Scale, m.Offset)}
		if m.Series != "" {
			one.series = payload.Template(site + "/" + string(shape.Parsed(here.Key("series"), m.Series, func(text string) (payload.Template, error) {
				return payload.ParseTemplate(text, []string{"group", "node", "device"})
			})))
		}
		out.rules[m.Name] = one
	}
	return out
}

// Filters returns the topics to subscribe to.
func (s *Settings) Filters() []string {
	group := s.group
	if group == "" {
		group = "+"
	}
	out := []string{namespace + "STATE/" + s.host}
	for _, kind := range []string{"NBIRTH", "NDATA", "NDEATH"} {
		out = append(out, namespace+group+"/"+kind+"/+")
	}
	for _, kind := range []string{"DBIRTH", "DDATA", "DDEATH"} {
		out = append(out, namespace+group+"/"+kind+"/+/+")
	}
	return out
}

package sparkplug

import (
	"fmt"
	"math"
	"strings"
	"time"

	"nexocumula/internal/core/calibrate"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/payload"
	"nexocumula/internal/gateway/sparkplug/wire"
)

// taking is one message being taken in.
type taking struct {
	host    *Host
	at      int64
	from    *reading.Origin
	payload *wire.Payload
	node    *node
	device  string // "": the node itself
	out     *Taken
}

// mostRejects of one message are kept one by one.
const mostRejects = 20

func (t *taking) refuse(format string, args ...any) {
	if len(t.out.Rejects) < mostRejects {
		t.out.Rejects = append(t.out.Rejects, t.from.Reject(t.at, fmt.Sprintf(format, args...)))
	}
}

func (t *taking) fault(format string, args ...any) {
	t.out.Faults = append(t.out.Faults, fmt.Sprintf(format, args...))
}

func (t *taking) kind(kind string) {
	n := t.node
	switch kind {
	case "NBIRTH":
		t.forget(n.own)
		for _, d := range n.devices {
			t.forget(d)
		}
		n.online, n.seq, n.bdSeq, n.own, n.devices = true, t.payload.GetSeq(), t.bdSeq(), newCatalogue(), map[string]*catalogue{}
		t.born(n.own)
	case "NDEATH":
		t.died()
	case "NDATA":
		t.inOrder()
		t.data(n.own)
	case "DBIRTH":
		t.inOrder()
		if n.own == nil {
			t.ask("device %s is born before its node", t.device)
			n.devices = map[string]*catalogue{}
		}
		if n.devices[t.device] == nil && len(n.devices) >= mostDevices {
			t.refuse("the node has %d devices already; at most that many are remembered", mostDevices)
			return
		}
		t.forget(n.devices[t.device])
		c := newCatalogue()
		n.devices[strings.Clone(t.device)] = c
		t.born(c)
	case "DDEATH":
		t.inOrder()
		if d := n.devices[t.device]; d != nil && d.online {
			d.online = false
			t.present(false)
			t.end(d)
		}
	case "DDATA":
		t.inOrder()
		t.data(n.devices[t.device])
	}
}

// inOrder notices messages of a node that are missing.
func (t *taking) inOrder() {
	n := t.node
	if n.own == nil || !n.online {
		return // what comes next asks for a birth
	}
	wanted := (n.seq + 1) % 256
	if t.payload.Seq == nil {
		t.fault("message without a number where %d should be", wanted)
		return
	}
	if n.seq = t.payload.GetSeq(); n.seq != wanted {
		t.ask("message %d came where %d should be: some are missing", n.seq, wanted)
	}
}

// ask asks a node to be born again, now and then.
func (t *taking) ask(why string, args ...any) {
	now := time.Unix(0, t.at)
	if wait := now.Sub(t.node.asked); wait >= 0 && wait < askAgain {
		t.fault(why+"; it was asked to be born again a moment ago", args...)
		return
	}
	t.fault(why+"; it is asked to be born again", args...)
	t.node.asked = now
	t.out.Send = append(t.out.Send, rebirth(t.node, t.at))
}

func (t *taking) bdSeq() int64 {
	for _, m := range t.payload.Metrics {
		if m.GetName() == "bdSeq" {
			if v, err := number(m, int64T); err == nil {
				return int64(v)
			}
		}
	}
	return -1
}

// died ends a node and what is behind it. The death of a connection before its last birth
// says nothing of it.
func (t *taking) died() {
	n := t.node
	if was := t.bdSeq(); !n.online || was >= 0 && n.bdSeq >= 0 && was != n.bdSeq {
		return
	}
	n.online = false
	t.present(false)
	t.end(n.own)
	for name, d := range n.devices {
		if d.online {
			d.online = false
			t.device = name
			t.present(false)
			t.end(d)
		}
	}
}

// end tells which series a node or device does not measure any more.
func (t *taking) end(c *catalogue) {
	if c == nil {
		return
	}
	for _, m := range c.byName {
		if m.path != "" {
			t.out.Ended = append(t.out.Ended, m.path)
		}
	}
}

// born takes in what a birth names, and its values.
func (t *taking) born(c *catalogue) {
	if t.host.known += len(t.payload.Metrics); t.host.known > mostMetrics {
		t.host.known -= len(t.payload.Metrics)
		c.online = false
		t.refuse("the birth names %d metrics, and %d are known; at most %d are remembered", len(t.payload.Metrics),
			t.host.known, mostMetrics)
		return
	}
	c.metrics = len(t.payload.Metrics)
	t.present(true)
	taken := map[series.Path]string{}
	for _, m := range t.payload.Metrics {
		name := m.GetName()
		if name == "" {
			t.refuse("a metric of the birth has no name")
			continue
		}
		one := &metric{name: name, datatype: m.GetDatatype(), calibrate: calibrate.Identity, unit: unitOf(m)}
		if err := t.place(one); err != nil {
			t.refuse("metric %q: %v", clip(name), err)
		}
		if other, twice := taken[one.path]; twice && one.path != "" {
			t.refuse("metric %q: its series would be %s, which is that of %q; say with metrics: what it is called",
				clip(name), one.path, clip(other))
			one.path = ""
		}
		taken[one.path] = name
		c.byName[name] = one
		if m.Alias != nil {
			c.byAlias[*m.Alias] = one
		}
		t.value(one, m)
	}
}

// forget makes room for what a new birth names.
func (t *taking) forget(c *catalogue) {
	if c != nil {
		t.host.known -= c.metrics
	}
}

// place finds the series of a metric.
func (t *taking) place(m *metric) error {
	r, ruled := t.host.settings.rules[m.name]
	if about(m.name) && !ruled || r.skip {
		return nil
	}
	if !measures(m.datatype) && !ruled {
		t.out.Ignored++
		return nil
	}
	if !measures(m.datatype) {
		return fmt.Errorf("it is %s, which measures nothing; skip: true leaves it out", typeName(m.datatype))
	}
	template := t.host.settings.device
	if t.device == "" {
		template = t.host.settings.node
	}
	if ruled {
		if m.calibrate = r.calibrate; m.calibrate != calibrate.NewLinear(nil, 0) {
			m.unit = "" // it is of the value before it is scaled
		}
		if r.series != "" {
			template = r.series
		}
	}
	var err error
	m.path, err = t.path(template, m.name)
	return err
}

func (t *taking) path(template payload.Template, metric string) (series.Path, error) {
	return template.Path(map[string]string{
		"group":  level(t.node.group),
		"node":   level(t.node.name),
		"device": level(t.device),
		"metric": level(metric),
	})
}

// data takes in values of metrics that a birth named.
func (t *taking) data(c *catalogue) {
	if c == nil || !c.online || !t.node.online {
		t.refuse("nobody said what this node measures: its birth has not come yet")
		t.ask("data came before a birth")
		return
	}
	for _, m := range t.payload.Metrics {
		known, err := c.find(m)
		if err != nil {
			if !about(m.GetName()) {
				t.refuse("%v", err)
				t.ask("%v", err)
			}
			continue
		}
		t.value(known, m)
	}
}

func (t *taking) value(known *metric, m *wire.Metric) {
	if known.path == "" || m.GetIsNull() {
		return
	}
	out := reading.Reading{Path: known.path, Time: t.at, From: t.from}
	stamp := m.Timestamp
	if stamp == nil {
		stamp = t.payload.Timestamp
	}
	if stamp != nil {
		if *stamp > math.MaxInt64/1_000_000 {
			t.refuse("%s: its time, %d ms since 1970, cannot be", known.path, *stamp)
			return
		}
		out.Time = int64(*stamp) * 1e6
	}
	var err error
	if text, is := m.Value.(*wire.Metric_StringValue); is {
		out.Text = text.StringValue
	} else if out.Value, err = number(m, known.datatype); err != nil {
		t.refuse("%s: metric %q %v", known.path, clip(known.name), err)
		return
	} else {
		out.Value, out.Unit = known.calibrate.Apply(out.Value), known.unit
	}
	t.out.Readings = append(t.out.Readings, out)
}

// present tells whether a node or device is there.
func (t *taking) present(is bool) {
	template := t.host.settings.devicePresent
	if t.device == "" {
		template = t.host.settings.present
	}
	if template == "" {
		return
	}
	path, err := t.path(template, "")
	if err != nil {
		t.refuse("its name cannot be made a series: %v", err)
		return
	}
	one := reading.Reading{Path: path, Time: t.at, From: t.from}
	if is {
		one.Value = 1
	}
	t.out.Readings = append(t.out.Readings, one)
}

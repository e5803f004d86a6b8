package source

import (
	"fmt"
	"strings"
	"sync"
	"sync/atomic"

	"nexocumula/internal/config"
	"nexocumula/internal/core/decode"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
)

// messages turns MQTT messages into readings, as the configuration says. It is safe
// for concurrent use.
type messages struct {
	source string
	forms  []config.Message

	// routes remembers what a topic resolved to; topics come again and again.
	routes sync.Map // topic → *route
	known  atomic.Int64
}

// maxRoutes bounds what senders of ever new topics can make us remember.
const maxRoutes = 100_000

// route is what a topic resolves to.
type route struct {
	form   *config.Message // nil: no pattern matches
	series []series.Path   // per value of the form
	reason string          // why the topic cannot be used, when form is nil
}

func (m *messages) route(topic string) *route {
	if r, ok := m.routes.Load(topic); ok {
		return r.(*route)
	}
	r := m.resolve(topic)
	if m.known.Load() < maxRoutes {
		topic = strings.Clone(topic)
		if _, had := m.routes.LoadOrStore(topic, r); !had {
			m.known.Add(1)
		}
	}
	return r
}

func (m *messages) resolve(topic string) *route {
	for i := range m.forms {
		form := &m.forms[i]
		bound, ok := form.Topic.Match(topic)
		if !ok {
			continue
		}
		r := &route{form: form}
		for _, v := range form.Values {
			path, err := v.Series.Path(bound)
			if err != nil {
				return &route{reason: fmt.Sprintf("topic cannot be made a series: %v", err)}
			}
			r.series = append(r.series, path)
		}
		return r
	}
	known := make([]string, len(m.forms))
	for i, f := range m.forms {
		known[i] = f.Topic.String()
	}
	return &route{reason: "topic matches no messages: entry; those are " + strings.Join(known, ", ")}
}

// decode reads one message that arrived at a time. Values that cannot be read are
// rejects; the others of the same message count.
func (m *messages) decode(topic string, payload []byte, arrived int64) (readings []reading.Reading, rejects []reading.Reject) {
	from := &reading.Origin{Source: m.source, Place: topic, Raw: payload}
	refuse := func(reason string) { rejects = append(rejects, from.Reject(arrived, reason)) }

	r := m.route(topic)
	if r.form == nil {
		refuse(r.reason)
		return nil, rejects
	}
	at, value, err := open(r.form, payload, arrived)
	if err != nil {
		refuse(err.Error())
		return nil, rejects
	}
	readings = make([]reading.Reading, 0, len(r.series))
	for i, v := range r.form.Values {
		raw, err := value(v.At)
		if err != nil {
			refuse(fmt.Sprintf("%s: %v", r.series[i], err))
			continue
		}
		readings = append(readings, reading.Reading{Path: r.series[i], Time: at, Value: v.Calibrate.Apply(raw), From: from})
	}
	return readings, rejects
}

// open parses a payload: the time of its readings, and how to get at its values.
func open(form *config.Message, payload []byte, arrived int64) (at int64, value func(decode.Pointer) (float64, error), err error) {
	if form.Form == decode.Number {
		v, err := decode.ReadNumber(payload)
		return arrived, func(decode.Pointer) (float64, error) { return v, nil }, err
	}
	doc, err := decode.ReadJSON(payload)
	if err != nil {
		return 0, nil, err
	}
	if form.Time != nil {
		if arrived, err = doc.Time(*form.Time, form.TimeForm); err != nil {
			return 0, nil, err
		}
	}
	return arrived, doc.Number, nil
}

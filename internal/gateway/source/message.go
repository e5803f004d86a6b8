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

// route is what a topic resolves to: how its payloads are decoded, and what their fields
// are called.
type route struct {
	form   *config.Message // nil: no pattern matches
	series []series.Path   // per field of the form
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
		for _, v := range form.Fields {
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
	r := m.route(topic)
	if r.form == nil {
		return nil, []reading.Reject{from.Reject(arrived, r.reason)}
	}
	readings = make([]reading.Reading, 0, len(r.series))
	err := r.form.Decode(payload, func(v decode.Value) {
		if v.Err != nil {
			rejects = append(rejects, from.Reject(arrived, fmt.Sprintf("%s: %v", r.series[v.Field], v.Err)))
			return
		}
		at := arrived
		if v.Time != 0 {
			at = v.Time
		}
		readings = append(readings, reading.Reading{Path: r.series[v.Field], Time: at, Value: r.form.Fields[v.Field].Calibrate.Apply(v.Raw), From: from})
	})
	if err != nil {
		return nil, append(rejects, from.Reject(arrived, err.Error()))
	}
	return readings, rejects
}

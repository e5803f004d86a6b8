package payload

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
)

// messageKeys are the configuration keys that messages of every form share.
type messageKeys struct {
	Topic    string            `yaml:"topic" is:"required" says:"levels may be {name} (any one, for use in series), +, or # at the end"`
	Lookup   map[string]string `yaml:"lookup" says:"for {name}s that are codes, such as station: stations.csv: a CSV file with a line code,name for each; with more columns its first line names them, and they can be used as {name}s too; a code that is not in it is rejected"`
	Labels   map[string]string `yaml:"labels" says:"of the series, such as region: \"{region}\"; a series' rule comes before them"`
	Retained string            `yaml:"retained" is:"ignore" says:"what becomes of values without a time of their own that a broker retained from who knows when: ignore (they are counted as ignored), arrival (they count as of their arrival) or reject"`
	Payload  string            `yaml:"payload" is:"number" says:"how it is written; each form has keys of its own"`

	outerKeys `yaml:",inline"`
}

// Message says how messages of a topic become readings.
type Message struct {
	Topic    Topic
	outer    outerKeys
	decode   decoder
	fields   fields
	labels   labels
	retained string // ignore, arrival or reject
}

// What becomes of values that a broker retained and that have no time of their own.
const (
	ignoreRetained = "ignore"
	takeRetained   = "arrival"
	rejectRetained = "reject"
)

// ReadMessages checks the messages of a source; the first that matches a topic counts.
func ReadMessages(at shape.Place, site string, parts []shape.Part) (out []Message) {
	if len(parts) == 0 {
		at.Wrong("say which topics become which series")
	}
	for _, part := range parts {
		one := readMessage(part, site)
		for k, before := range out {
			if one.Topic.text != "" && before.Topic.text != "" && covers(before.Topic, one.Topic) {
				part.Key("topic").Advise("nothing comes here: the first topic that matches counts, and messages[%d], %s, matches all of %s before",
					k, before.Topic, one.Topic)
				break
			}
		}
		out = append(out, one)
	}
	return out
}

func readMessage(part shape.Part, site string) Message {
	raw := messageKeys{Payload: "number"}
	if text, there := part.Text("payload"); there {
		raw.Payload = text
	}
	form, err := formNamed(raw.Payload)
	if err != nil {
		part.Key("payload").Wrong("%v", err)
		return Message{} // which keys belong here is not known
	}
	keys := form.keys()
	part.Fill(nil, &raw, keys)
	m := Message{
		Topic:    shape.Parsed(part.Key("topic"), raw.Topic, ParseTopic),
		retained: cmp.Or(raw.Retained, ignoreRetained),
		outer:    raw.outerKeys,
	}
	raw.outerKeys.check(part.Place)
	if !slices.Contains([]string{ignoreRetained, takeRetained, rejectRetained}, m.retained) {
		part.Key("retained").Wrong("%q is not known; use ignore, arrival or reject", raw.Retained)
	}
	m.fields = fields{site: site, topic: m.Topic.Names(), lookups: readLookups(part.Key("lookup"), raw.Lookup)}
	m.decode = keys.decoder(part.Place, &m.fields)
	m.fields.checkLookups(part.Key("lookup"))
	m.labels = readLabels(part.Key("labels"), raw.Labels, &m.fields)
	return m
}

// Feeds returns which series messages feed, with "+" for the levels that only messages tell.
func Feeds(all []Message) (out []config.Feed) {
	for _, m := range all {
		for _, f := range m.fields.all {
			levels := strings.Split(string(f.series), "/")
			for i, level := range levels {
				if strings.Contains(level, "{") {
					levels[i] = "+"
					if name := strings.Trim(level, "{}"); m.fields.looked(name) {
						levels = append(levels[:i], "#") // a look-up may stand for several levels
						break
					}
				}
			}
			out = append(out, config.Feed{Levels: levels, Text: f.state, At: f.at.Above()})
		}
	}
	return out
}

// Messages turns messages into readings. It is safe for concurrent use.
type Messages struct {
	source string
	forms  []Message
	levels levels

	// routes remembers what a topic resolved to; topics come again and again.
	routes sync.Map // topic → *route
	known  atomic.Int64
}

// NewMessages returns the messages of a source.
func NewMessages(source string, forms []Message) *Messages {
	return &Messages{source: source, forms: forms}
}

// maxRoutes bounds what senders of ever new topics can make us remember.
const maxRoutes = 100_000

// route is the resolution of a topic: how its payloads are decoded, and how their fields
// are called.
type route struct {
	message *Message // nil: no pattern matches
	bound   map[string]string
	series  []named // per field of the form; empty of those whose name depends on the payload
	reason  string  // why the topic cannot be used, when message is nil

	known  *atomic.Int64 // of all routes
	mu     sync.Mutex
	called map[string]named // by field and names that payloads bound
}

// named is the path of a value's series, with its labels.
type named struct {
	path   series.Path
	labels series.Labels
}

func (m *Messages) route(topic string) *route {
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

func (m *Messages) resolve(topic string) *route {
	for i := range m.forms {
		form := &m.forms[i]
		bound, ok := form.Topic.Match(topic)
		if !ok {
			continue
		}
		for name, level := range bound {
			bound[name] = strings.Clone(level)
		}
		r := &route{message: form, bound: bound, known: &m.known}
		for _, f := range form.fields.all {
			var called named
			if !f.byPayload {
				var err error
				if called, err = m.named(form, f.series, bound); err != nil {
					return &route{reason: fmt.Sprintf("topic cannot be made a series: %v", err)}
				}
			}
			r.series = append(r.series, called)
		}
		return r
	}
	known := make([]string, len(m.forms))
	for i, f := range m.forms {
		known[i] = f.Topic.String()
	}
	return &route{reason: "topic matches no messages: entry; those are " + strings.Join(known, ", ")}
}

// maxCalled bounds what payloads that bind ever new names can make one route remember; those
// of all routes count with the topics.
const maxCalled = 10_000

// name returns the path of a value's series, with its labels.
func (m *Messages) name(r *route, v value) (named, error) {
	if v.field == noField {
		return named{}, nil
	}
	if p := r.series[v.field]; p.path != "" {
		return p, nil
	}
	key := strconv.Itoa(v.field) + "\x00" + strings.Join(v.names, "\x00")
	r.mu.Lock()
	defer r.mu.Unlock()
	if p, ok := r.called[key]; ok {
		return p, nil
	}
	bound := make(map[string]string, len(r.bound)+len(v.names))
	for name, level := range r.bound {
		bound[name] = level
	}
	for i, name := range r.message.fields.all[v.field].names {
		if i < len(v.names) {
			bound[name] = strings.Clone(v.names[i])
		}
	}
	p, err := m.named(r.message, r.message.fields.all[v.field].series, bound)
	if err == nil && len(r.called) < maxCalled && r.known.Load() < maxRoutes {
		r.known.Add(1)
		if r.called == nil {
			r.called = map[string]named{}
		}
		r.called[key] = p
	}
	return p, err
}

// named fills a template and the labels with names: codes are looked up first, and all others are cleaned.
func (m *Messages) named(of *Message, t Template, bound map[string]string) (out named, err error) {
	levels, err := of.fields.lookUp(bound)
	if err != nil {
		return out, err
	}
	clean := make(map[string]string, len(levels))
	for name, text := range levels {
		clean[name] = text
		if !strings.Contains(string(t), "{"+name+"}") || of.fields.looked(name) {
			continue
		}
		if clean[name], err = m.levels.level(name, text); err != nil {
			return out, err
		}
	}
	if out.path, err = t.Path(clean); err == nil {
		out.labels = of.labels.fill(levels)
	}
	return out, err
}

// Decoded holds the readings and rejects of one message.
type Decoded struct {
	Readings []reading.Reading
	Rejects  []reading.Reject
	Ignored  int    // values left out: retained ones without a time of their own, and those that are not available
	Clock    string // what is wrong with the sender's clock; "" when nothing is known to be

	offset series.Path // of the sender's clock, once it is among the readings
}

// Arrived is a message.
type Arrived struct {
	Topic    string
	Place    string // for people; "": the topic
	Payload  []byte
	At       int64 // nanoseconds since 1970
	Retained bool  // kept by a broker from who knows when
}

// mostRejects of one message are kept one by one.
const mostRejects = 20

// Decode reads one message. Values that cannot be read are rejects; the others of the same
// message count.
func (m *Messages) Decode(a Arrived) (out Decoded) {
	from := &reading.Origin{Source: m.source, Place: cmp.Or(a.Place, a.Topic), Raw: a.Payload}
	r := m.route(a.Topic)
	if r.message == nil {
		out.Rejects = []reading.Reject{from.Reject(a.At, r.reason)}
		return out
	}
	out.Readings = make([]reading.Reading, 0, len(r.series))
	inner, err := r.message.outer.unwrap(a.Payload)
	if err != nil {
		return Decoded{Rejects: []reading.Reject{from.Reject(a.At, err.Error())}}
	}
	more := 0
	err = r.message.decode(inner, func(v value) {
		if v.none {
			out.Ignored++
			return
		}
		name, err := m.name(r, v)
		called := string(name.path)
		if err != nil {
			called = "a name in the payload cannot be made a series"
		}
		timeless := a.Retained && (!v.when.absolute() || v.when.correct && !v.offset)
		switch {
		case v.err != nil:
			err = v.err
		case timeless && r.message.retained == ignoreRetained:
			out.Ignored++
			return
		case a.Retained && !v.when.absolute() && r.message.retained == takeRetained:
		case a.Retained && !v.when.absolute():
			err = errors.New("message was retained by the broker and has no time of its own, so its age is unknown")
		case a.Retained && v.when.correct && !v.offset:
			err = errors.New("message was retained by the broker, so by how much its sender's clock is off cannot be told from its arrival")
		}
		if err == nil {
			r.take(&out, a, v, name, from)
		} else if len(out.Rejects) < mostRejects {
			out.Rejects = append(out.Rejects, from.Reject(a.At, inPlace(called, v.record, err)))
		} else {
			more++
		}
	})
	if err != nil {
		return Decoded{Rejects: []reading.Reject{from.Reject(a.At, err.Error())}, Ignored: out.Ignored}
	}
	if more > 0 {
		out.Rejects[mostRejects-1].Reason += fmt.Sprintf("; %d more values of this message are wrong too", more)
	}
	return out
}

func inPlace(called string, record int, err error) string {
	at := ""
	if record > 0 {
		at = fmt.Sprintf("record %d", record)
	}
	for _, one := range []string{at, called} {
		if one != "" {
			err = fmt.Errorf("%s: %w", one, err)
		}
	}
	return err.Error()
}

// take adds a value to what a message brought.
func (r *route) take(out *Decoded, a Arrived, v value, name named, from *reading.Origin) {
	one := reading.Reading{
		Path:   name.path,
		Labels: name.labels,
		Time:   a.At,
		Text:   strings.Clone(v.text),
		Truth:  v.truth,
		Unit:   v.unit,
		From:   from,
	}
	if v.offset {
		if !a.Retained && out.offset != name.path { // once for all records of a message
			out.offset, one.Value, one.Unit = name.path, v.when.ahead(a.At).Seconds(), "s"
			out.Readings = append(out.Readings, one)
		}
		return
	}
	if v.text == "" {
		one.Value = r.message.fields.all[v.field].calibrate.Apply(v.raw)
	}
	if v.when != nil {
		var off time.Duration
		if one.Time, off = v.when.time(a.At); off != 0 && !a.Retained {
			out.Clock = "the sender's clock is " + offBy(off)
			if v.when.correct {
				one.From = from.Saying(v.when.at)
			}
		}
	}
	out.Readings = append(out.Readings, one)
}

package push

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"fmt"
	"slices"
	"strings"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/payload"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/store/records"
)

// Receiver takes what senders bring.
type Receiver struct {
	source.Counter
	name     string
	settings settings
	pipe     *pipeline.Pipeline
	messages *payload.Messages // of documents that are sent as messages
}

func open(name string, s settings, pipe *pipeline.Pipeline) *Receiver {
	r := &Receiver{name: name, settings: s, pipe: pipe, messages: payload.NewMessages(name, s.messages)}
	r.Change(func(t *source.Tally) {
		*t = source.Tally{Name: name, Form: "http_push", Address: "/api/v1/readings"}
	})
	return r
}

// Run is up until ctx ends; the service's HTTP interface brings what arrives.
func (r *Receiver) Run(ctx context.Context) error {
	r.Up(true)
	<-ctx.Done()
	r.Up(false)
	return nil
}

// Sender returns the sender with a token, or nil.
func (r *Receiver) Sender(token string) (found *Sender) {
	sum := sha256.Sum256([]byte(token)) // of one length, so that comparing takes the same time
	for i := range r.settings.senders {
		own := sha256.Sum256([]byte(r.settings.senders[i].token))
		if subtle.ConstantTimeCompare(sum[:], own[:]) == 1 && token != "" {
			found = &r.settings.senders[i]
		}
	}
	return found
}

// Named returns the sender of a name that has no token in the configuration; nil when there is none.
func (r *Receiver) Named(name string) *Sender {
	for i, s := range r.settings.senders {
		if s.Name == name && s.token == "" {
			return &r.settings.senders[i]
		}
	}
	return nil
}

// MaxBody returns how long a request may be.
func (r *Receiver) MaxBody() int { return r.settings.maxBody }

// Form is how a document is written.
type Form int

// The forms. A Message is read as the configuration's messages say of its topic.
const (
	CSV Form = iota
	SenMLJSON
	SenMLCBOR
	Message
)

// Document is the body of one request, with its sender.
type Document struct {
	Sender *Sender
	Form   Form
	Topic  string // of a message
	Body   []byte
	Key    string // of a request that may be sent again; "": none

	May func(series.Path) bool // which series the sender may send, besides its own limits; nil: any
}

// Outcome is the result of storing a document.
type Outcome struct {
	Accepted int
	Refused  []Refused // in the order of the document, as far as that is known
}

// Refused is a row that does not count.
type Refused struct{ Place, Reason string }

// Unreadable is a document of which nothing can be used.
type Unreadable struct{ error }

// Preview says what would become of a document, and stores nothing.
func (r *Receiver) Preview(d Document) (trials []pipeline.Trial, rejects []reading.Reject, err error) {
	rows, err := rowsOf(d)
	if err != nil {
		return nil, nil, Unreadable{err}
	}
	at, err := r.pipe.Arrive()
	if err != nil {
		return nil, nil, err
	}
	got := r.read(rows, d, at)
	return r.pipe.Try(got.Readings), got.Rejects, nil
}

// PlaceOf returns the place in a document that an origin of its sender names.
func PlaceOf(from *reading.Origin) string {
	_, place, _ := strings.Cut(from.Place, ": ")
	return place
}

// Take returns once the readings of a document are on disk, or will never be.
func (r *Receiver) Take(ctx context.Context, d Document) (out Outcome, err error) {
	rows, err := rowsOf(d)
	if err != nil {
		r.Failed("sender "+d.Sender.Name, err.Error())
		return out, Unreadable{err}
	}
	at, err := r.pipe.Arrive()
	if err != nil {
		return out, err
	}
	if d.Key != "" {
		digest := sha256.Sum256(d.Body)
		if at, err = r.pipe.FirstArrival(r.name+"/"+d.Sender.Name+"/"+d.Key, digest[:], at); err != nil {
			if errors.Is(err, records.ErrOtherBody) {
				r.Failed("sender "+d.Sender.Name,
					fmt.Sprintf("the Idempotency-Key %q came before with another body", d.Key))
			}
			return out, err
		}
	}
	got := r.read(rows, d, at)
	r.Ignored(got.Ignored)
	if got.Clock != "" {
		r.Failed("sender "+d.Sender.Name, got.Clock)
	}
	delivery := &pipeline.Delivery{Sender: r.name + "/" + d.Sender.Name, Readings: got.Readings, Rejects: got.Rejects}
	r.Arrived(len(delivery.Readings), len(delivery.Rejects))
	sent := len(delivery.Readings)
	early := len(delivery.Rejects)
	done := make(chan error, 1)
	delivery.Done = func(err error) { done <- err }
	r.pipe.Submit(delivery)
	select {
	case err = <-done:
	case <-ctx.Done():
		return out, ctx.Err() // it may be stored all the same; the sender did not wait
	}
	if err != nil {
		return out, err
	}
	r.Acked()
	for i, refused := range delivery.Rejects {
		who, place, _ := strings.Cut(refused.Place, ": ")
		if who == "derived" { // no row of the sender's
			continue
		}
		if out.Refused = append(out.Refused, Refused{place, refused.Reason}); i >= early {
			sent--
		}
	}
	out.Accepted = sent
	return out, nil
}

// rowsOf returns the rows of a document; a message has none.
func rowsOf(d Document) ([]payload.Row, error) {
	switch d.Form {
	case Message:
		return nil, nil
	case SenMLJSON, SenMLCBOR:
		return payload.SenMLRows(d.Body, d.Form == SenMLCBOR)
	default:
		return payload.CSVRows(d.Body)
	}
}

// may reports whether a sender may send a series.
func (d *Document) may(path series.Path) error {
	if !d.Sender.series.Match(path) || d.May != nil && !d.May(path) {
		return fmt.Errorf("sender %s may not send %s", d.Sender.Name, path)
	}
	return nil
}

// read makes readings of a document.
func (r *Receiver) read(rows []payload.Row, d Document, at int64) payload.Decoded {
	if d.Form != Message {
		return r.readRows(rows, d, at)
	}
	out := r.messages.Decode(payload.Arrived{
		Topic:   d.Topic,
		Place:   placeOf(d.Sender, "topic "+d.Topic),
		Payload: d.Body,
		At:      at,
	})
	all := out.Readings
	out.Readings = nil
	for _, one := range all {
		if err := d.may(one.Path); err != nil {
			out.Rejects = append(out.Rejects, one.From.Reject(at, err.Error()))
			continue
		}
		out.Readings = append(out.Readings, one)
	}
	return out
}

// placeOf names for people what a sender sent.
func placeOf(s *Sender, what string) string { return "sender " + s.Name + ": " + what }

// Reread reads a message of a topic as if it had just been sent. A reject names its sender: the series that this sender
// may send today are the limit.
func (r *Receiver) Reread(place string, raw []byte, at int64) ([]reading.Reading, []reading.Reject) {
	from := &reading.Origin{Source: r.name, Place: place, Raw: raw}
	refuse := func(format string, args ...any) ([]reading.Reading, []reading.Reject) {
		return nil, []reading.Reject{from.Reject(at, fmt.Sprintf(format, args...))}
	}
	name, rejected := strings.CutPrefix(place, "sender ")
	if !rejected { // somebody tries a topic
		got := r.messages.Decode(payload.Arrived{Topic: place, Payload: raw, At: at})
		return got.Readings, got.Rejects
	}
	name, topic, ok := strings.Cut(name, ": topic ")
	if !ok {
		return refuse("a row of a document cannot be read again by itself; send it again")
	}
	i := slices.IndexFunc(r.settings.senders, func(s Sender) bool { return s.Name == name })
	if i < 0 {
		return refuse("there is no sender %s any more", name)
	}
	got := r.read(nil, Document{Sender: &r.settings.senders[i], Form: Message, Topic: topic, Body: raw}, at)
	return got.Readings, got.Rejects
}

// readRows makes readings of rows. What cannot be one is a reject, with its row.
func (r *Receiver) readRows(rows []payload.Row, of Document, at int64) (d payload.Decoded) {
	timeless := map[string]string{} // of each series without a time: the row
	for _, row := range rows {
		from := &reading.Origin{
			Source: r.name,
			Place:  placeOf(of.Sender, row.Place),
			Raw:    fmt.Appendf(nil, "%s %v%s", row.Name, row.Value, row.Text),
		}
		path, err := series.ParsePath(r.settings.site + "/" + row.Name)
		if err == nil {
			err = of.may(path)
		}
		switch {
		case row.Err != nil:
			err = row.Err
		case err == nil && row.Relative && timeless[row.Name] != "" && row.At == 0:
			err = fmt.Errorf("it has no time, and neither has %s of the same series; of one moment there is one reading",
				timeless[row.Name])
		}
		if err != nil {
			d.Rejects = append(d.Rejects, from.Reject(at, err.Error()))
			continue
		}
		one := reading.Reading{Path: path, Time: row.At, Value: row.Value, Text: row.Text, Unit: row.Unit, From: from}
		if row.Relative {
			if one.Time += at; row.At == 0 {
				timeless[row.Name] = row.Place
			}
		}
		d.Readings = append(d.Readings, one)
	}
	return d
}

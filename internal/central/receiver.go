package central

import (
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
	"nexocumula/internal/wire"
)

// Receiver takes envelopes from gateways into the store. A batch is stored together
// with the cursor that says so, and one that came before changes nothing.
type Receiver struct {
	store  *store.Store
	tokens map[string]string // by gateway

	links map[string]*link // by gateway
}

// link is what the central knows of one gateway. mu is held while its envelope is
// stored, so the batches of a gateway are taken one after the other.
type link struct {
	mu     sync.Mutex
	cursor store.Cursor

	seen sync.Mutex // guards what follows
	show Link
}

// Link is how a gateway stands, for people to look at.
type Link struct {
	Gateway   string
	HeardAt   time.Time // of the last envelope; zero when there was none since the start
	StoredAt  time.Time // when the last summaries were stored
	StoredSeq uint64
	Rows      uint64 // summaries stored in all
	Repeated  uint64 // batches that had come before, since the start
	Refused   uint64 // envelopes refused since the start
	LastError string
	Status    wire.Status // what the gateway last said of itself
}

// silence is how long a gateway may say nothing and still be called up; it speaks at
// least every five seconds.
const silence = 15 * time.Second

// Up reports whether the gateway was heard lately.
func (l Link) Up(now time.Time) bool { return now.Sub(l.HeardAt) < silence }

// NewReceiver continues with the cursors of the store.
func NewReceiver(settings config.Central, st *store.Store) (*Receiver, error) {
	r := &Receiver{store: st, tokens: map[string]string{}, links: map[string]*link{}}
	cursors, err := st.Cursors()
	if err != nil {
		return nil, err
	}
	for _, a := range settings.Accept {
		r.tokens[a.Gateway] = a.Token
		c := cursors[cursorName(a.Gateway)]
		c.Name = cursorName(a.Gateway)
		l := &link{cursor: c, show: Link{Gateway: a.Gateway, StoredSeq: c.Seq, Rows: c.Rows}}
		if c.Epoch != "" {
			l.show.StoredAt = c.Updated
			if err := json.Unmarshal(c.Status, &l.show.Status); err != nil {
				return nil, fmt.Errorf("reading the cursor of %s: %w", a.Gateway, err)
			}
			l.show.HeardAt = l.show.Status.SentAt
		}
		r.links[a.Gateway] = l
	}
	return r, nil
}

func cursorName(gateway string) string { return "gateway " + gateway }

// refuse is a Refusal as an error.
type refuse struct{ wire.Refusal }

func (r refuse) Error() string { return r.Message }

// RefusalOf is the refusal behind an error of Receive.
func RefusalOf(err error) wire.Refusal {
	if r, ok := err.(refuse); ok {
		return r.Refusal
	}
	return wire.Refusal{Code: wire.CodeBusy, Message: err.Error(), Retry: true}
}

func no(code, format string, args ...any) error {
	return refuse{wire.Refusal{Code: code, Message: fmt.Sprintf(format, args...)}}
}

// Receive takes one envelope, sent with a bearer token, and returns once it is on
// disk. Its errors are for RefusalOf.
func (r *Receiver) Receive(token string, body []byte) (wire.Reply, error) {
	if !r.anyToken(token) {
		return wire.Reply{}, no(wire.CodeToken, "the token is missing or not known here")
	}
	e, err := wire.DecodeEnvelope(body)
	if err != nil {
		return wire.Reply{}, r.malformed("unknown gateway", err, body)
	}
	if subtle.ConstantTimeCompare([]byte(r.tokens[e.Gateway]), []byte(token)) != 1 {
		return wire.Reply{}, no(wire.CodeToken, "the token is not that of gateway %q", e.Gateway)
	}
	l := r.links[e.Gateway]
	l.mu.Lock()
	defer l.mu.Unlock()
	reply, err := r.take(l, e)
	l.seen.Lock()
	defer l.seen.Unlock()
	if err != nil {
		l.show.Refused++
		l.show.LastError = err.Error()
		return reply, err
	}
	l.show.HeardAt, l.show.Status = time.Now(), e.Status
	l.show.StoredSeq, l.show.Rows = l.cursor.Seq, l.cursor.Rows
	return reply, nil
}

// anyToken keeps those without any token from making us parse their body.
func (r *Receiver) anyToken(token string) bool {
	found := 0
	for _, known := range r.tokens {
		found |= subtle.ConstantTimeCompare([]byte(known), []byte(token))
	}
	return found == 1
}

// take stores what is new in the envelope. l.mu is held.
func (r *Receiver) take(l *link, e wire.Envelope) (wire.Reply, error) {
	next := l.cursor
	if e.Epoch != next.Epoch {
		next.Epoch, next.Seq = e.Epoch, 0 // the gateway began to count again
	}
	if e.FirstSeq > next.Seq+1 {
		return wire.Reply{}, refuse{wire.Refusal{
			Code: wire.CodeGap, StoredSeq: next.Seq, Retry: false,
			Message: fmt.Sprintf("batch %d cannot follow %d; send from %d on, or everything in a new epoch", e.FirstSeq, next.Seq, next.Seq+1),
		}}
	}
	fresh := e.Batches
	repeated := min(next.Seq+1-min(e.FirstSeq, next.Seq+1), uint64(len(e.Batches)))
	fresh = fresh[repeated:]
	if len(fresh) == 0 {
		l.note(repeated, time.Time{})
		return wire.Reply{StoredSeq: next.Seq}, nil
	}
	batch, rows, err := r.unpack(e.Gateway, fresh)
	var unwritten notWritten
	if errors.As(err, &unwritten) {
		return wire.Reply{}, unwritten.error
	}
	if err != nil {
		return wire.Reply{}, r.malformed(e.Gateway, err, nil)
	}
	status, err := json.Marshal(e.Status)
	if err != nil {
		return wire.Reply{}, err
	}
	next.Seq += uint64(len(fresh))
	next.Rows += uint64(rows)
	next.Updated, next.Status = time.Now(), status
	batch.Cursors = []store.Cursor{next}
	if err := r.store.Append(batch); err != nil {
		return wire.Reply{}, err
	}
	l.cursor = next
	l.note(repeated, next.Updated)
	return wire.Reply{StoredSeq: next.Seq}, nil
}

func (l *link) note(repeated uint64, stored time.Time) {
	l.seen.Lock()
	defer l.seen.Unlock()
	l.show.Repeated += repeated
	if !stored.IsZero() {
		l.show.StoredAt = stored
	}
}

// unpack decodes batches and defines their series. A gateway may only send series
// of its own site.
func (r *Receiver) unpack(gateway string, batches [][]byte) (store.Batch, int, error) {
	var out store.Batch
	var defs []series.Definition
	var sketches [][]wire.Sketch
	rows := 0
	for _, data := range batches {
		runs, err := wire.DecodeBatch(data)
		if err != nil {
			return out, 0, err
		}
		for _, run := range runs {
			if !ofSite(run.Def.Path, gateway) {
				return out, 0, fmt.Errorf("series %s is not of site %s", run.Def.Path, gateway)
			}
			defs = append(defs, run.Def)
			sketches = append(sketches, run.Sketches)
			out.Entries = append(out.Entries, store.Entry{Tier: run.Tier, Rows: run.Rows})
			rows += run.Len()
		}
		if rows > wire.MaxAllRows {
			return out, 0, fmt.Errorf("the envelope's batches hold more than %d summaries; send fewer at once", wire.MaxAllRows)
		}
	}
	ids, err := r.store.Define(defs)
	var changed *store.KindChanged
	if errors.As(err, &changed) {
		return out, 0, err // for a person to look at: sending it again does not help
	}
	if err != nil {
		return out, 0, notWritten{err}
	}
	for i := range out.Entries {
		out.Entries[i].Series = ids[i]
		for _, one := range sketches[i] {
			out.Sketches = append(out.Sketches, store.Sketch{Series: ids[i], Start: one.Start, Data: one.Data})
		}
	}
	return out, rows, nil
}

// notWritten is an error of the store and not of what was sent.
type notWritten struct{ error }

func ofSite(path series.Path, site string) bool {
	return len(path) > len(site) && string(path[:len(site)]) == site && path[len(site)] == '/'
}

// malformed keeps what could not be read as a reject.
func (r *Receiver) malformed(gateway string, cause error, raw []byte) error {
	from := reading.Origin{Source: "replication", Place: gateway, Raw: raw}
	if err := r.store.Append(store.Batch{Rejects: []reading.Reject{from.Reject(time.Now().UnixNano(), cause.Error())}}); err != nil {
		return err
	}
	return no(wire.CodeMalformed, "%v", cause)
}

// Links are how the gateways stand, by the order of the configuration's names.
func (r *Receiver) Links() []Link {
	out := make([]Link, 0, len(r.links))
	for _, l := range r.links {
		l.seen.Lock()
		out = append(out, l.show)
		l.seen.Unlock()
	}
	return out
}

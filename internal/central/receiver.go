package central

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nexocumula/internal/access"
	"nexocumula/internal/clock"
	"nexocumula/internal/config"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/plain"
	"nexocumula/internal/replica"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/records"
	"nexocumula/internal/store/sqlite"
	"nexocumula/internal/wire"
)

// Store is what a Receiver asks of the series engine.
type Store interface {
	Append(ctx context.Context, b engine.Batch) error
	Define(ctx context.Context, defs []series.Definition) ([]uint32, error)
	replica.Target
	Revise(ctx context.Context, path series.Path, tier series.Tier, rows column.Block) error
	Find(path series.Path) (engine.Series, bool)
	Count() int
	CountOf(site string) int
	Rename(all []records.Rename) error
	Called(path series.Path) series.Path // what a series is called now
	Judge() *clock.Judge
}

// Receiver takes envelopes from gateways into the store. A batch is stored together
// with the cursor that says so, and one that came before changes nothing.
type Receiver struct {
	store    Store
	cursors  records.Cursors
	rejects  *records.Rejects
	kinds    []replica.RecordKind
	enrolled Enrolled
	life     string         // random, of this run
	room     chan struct{}  // bounds the batches that are unpacked at the same time
	most     config.Central // its limits

	mu    sync.RWMutex
	links map[string]*link
	named func() []string // see NameAbove

	comparing chan struct{} // has room for one
	committer *committer
	kept      records.Records
	requests  Requests
}

// Enrolled knows the gateways that have a credential of their own, besides those that the
// configuration names.
type Enrolled interface {
	AnyCredential(bearer string) bool
	CheckCredential(gateway, bearer, from string) (access.Credential, error)
	Gateways() []access.EnrolledGateway
}

// mostUnpacked is how many batches are unpacked at a time: each takes some 10 MB.
const mostUnpacked = 4

// link is the central's state for one gateway. mu is held while its envelope is
// stored, so the batches of a gateway are taken one after the other.
type link struct {
	gateway string
	token   string
	sites   []string    // first levels of the series it may send by its token
	again   atomic.Bool // it is to send everything again

	mu       sync.Mutex
	now      []string // those of the envelope that is being stored
	series   int      // of these sites that the store knows; 0: not counted yet
	cursor   records.Cursor
	sessions sessions

	seen sync.Mutex // guards what follows
	show Link
}

// Link describes the state of a gateway's link, for display.
type Link struct {
	Gateway   string
	HeardAt   time.Time // of the last envelope; zero when there was none
	StoredAt  time.Time // when the last summaries were stored
	Batches   uint64    // batches stored in all
	Rows      uint64    // summaries stored in all
	Refused   uint64    // envelopes and runs refused since the start
	LastError string
	Twin      string      // another process that sends under the name; empty without one
	Status    wire.Status // what the gateway last said of itself

	// When the gateway was last heard again after a silence, and what it said then, before anything of it arrived.
	ReturnedAt time.Time
	Returned   wire.Status
}

// silence is how long a gateway may say nothing and still be called up; it speaks at
// least every five seconds.
const silence = 15 * time.Second

// Up reports whether the gateway was heard lately.
func (l Link) Up(now time.Time) bool {
	return now.Sub(l.HeardAt) < max(silence, 3*min(l.Status.Every, longestEvery))
}

// longestEvery bounds what a gateway may say of how seldom it speaks.
const longestEvery = 2 * time.Hour

// NewReceiver continues with the cursors of the store. Its Run must be running for
// Receive to make progress.
func NewReceiver(settings config.Central, st Store, kept records.Records, enrolled Enrolled) (*Receiver, error) {
	r := &Receiver{
		store:     st,
		cursors:   kept.Cursors,
		rejects:   kept.Rejects,
		kept:      kept,
		enrolled:  enrolled,
		life:      rand.Text(),
		links:     map[string]*link{},
		comparing: make(chan struct{}, 1),
		room:      make(chan struct{}, mostUnpacked),
		most:      settings,
	}
	r.most.MaxSeries = cmp.Or(r.most.MaxSeries, config.DefaultMaxSeries)
	r.most.MaxSeriesOfGateway = cmp.Or(r.most.MaxSeriesOfGateway, config.DefaultMaxSeriesOfGateway)
	r.committer = newCommitter(st)
	r.Use(nil)
	for _, a := range settings.Accept {
		l, err := r.link(a.Gateway)
		if err != nil {
			return nil, err
		}
		l.token, l.sites = a.Token, a.Sites
	}
	for _, g := range enrolled.Gateways() {
		if _, err := r.link(g.Name); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// Requests are what this service asks of gateways.
type Requests interface {
	Hand(gateway, session string) ([]wire.Request, error)
	Waits(ctx context.Context, gateway string) bool
	Answered(said records.Request)
}

// Use takes what keeps the requests; nil: nothing is asked. It is called before Receive.
func (r *Receiver) Use(requests Requests) {
	r.requests = requests
	answered := func(records.Request) {}
	if requests != nil {
		answered = requests.Answered
	}
	r.kinds = replica.Records(r.kept, replica.Hooks{Rename: r.store.Rename, Answered: answered})
}

// Waits returns once something is asked of a gateway that proves to be the one it says, or not for a while.
func (r *Receiver) Waits(ctx context.Context, gateway, token, from string) (bool, error) {
	if err := r.Knows(token); err != nil {
		return false, err
	}
	if _, _, err := r.admit(gateway, token, from); err != nil {
		return false, err
	}
	ctx, cancel := context.WithTimeout(ctx, wire.LongestWait)
	defer cancel()
	return r.requests != nil && r.requests.Waits(ctx, gateway), nil
}

// Route returns the gateway that sends what is of a site.
func (r *Receiver) Route(site string) (gateway string, ok bool) {
	enrolled := map[string][]string{}
	for _, g := range r.enrolled.Gateways() {
		if g.Revoked.IsZero() {
			enrolled[g.Name] = g.Sites
		}
	}
	r.mu.RLock()
	defer r.mu.RUnlock()
	for _, name := range slices.Sorted(maps.Keys(r.links)) {
		if slices.Contains(r.links[name].sites, site) || slices.Contains(enrolled[name], site) {
			return name, true
		}
	}
	return "", false
}

// link returns the gateway's link, resuming from its cursor.
func (r *Receiver) link(gateway string) (*link, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if l := r.links[gateway]; l != nil {
		return l, nil
	}
	cursors, err := r.cursors.All()
	if err != nil {
		return nil, err
	}
	c := cursors[cursorName(gateway)]
	c.Name = cursorName(gateway)
	l := &link{gateway: gateway, cursor: c, show: Link{Gateway: gateway, Batches: c.Stored, Rows: c.Rows}}
	l.sessions = sessions{current: c.Session, number: c.Sent, stored: c.Stored, retired: c.Retired, dropped: c.Dropped}
	if c.Stored > 0 {
		l.show.StoredAt = c.Updated
		if err := json.Unmarshal(c.Status, &l.show.Status); err != nil {
			return nil, fmt.Errorf("reading the cursor of %s: %w", gateway, err)
		}
		l.show.HeardAt = c.Updated
	}
	r.links[gateway] = l
	return l, nil
}

// NameAbove takes what names this central and those above it.
func (r *Receiver) NameAbove(names func() []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.named = names
}

func (r *Receiver) above() []string {
	r.mu.RLock()
	named := r.named
	r.mu.RUnlock()
	if named == nil {
		return nil
	}
	return named()
}

func cursorName(gateway string) string { return "gateway " + gateway }

// refuse is a Refusal as an error.
type refuse struct{ wire.Refusal }

func (r *refuse) Error() string { return r.Message }

func no(code, format string, args ...any) error {
	return &refuse{wire.Refusal{Code: code, Message: fmt.Sprintf(format, args...)}}
}

// Receive takes one envelope, sent with a bearer token from an address, and returns once
// it is on disk. Its errors are for RefusalOf.
func (r *Receiver) Receive(ctx context.Context, token, from string, body []byte) (wire.Reply, error) {
	if err := r.Knows(token); err != nil {
		return wire.Reply{}, err
	}
	e, err := wire.DecodeEnvelope(body)
	if other, ok := errors.AsType[*wire.VersionError](err); ok {
		return wire.Reply{}, r.otherVersion(e.Gateway, token, from, other)
	}
	if err != nil {
		return wire.Reply{}, r.malformed("unknown gateway", err, body)
	}
	l, sites, err := r.admit(e.Gateway, token, from)
	if err != nil {
		return wire.Reply{}, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.now = sites
	e.Status.Version = clip(e.Status.Version)
	e.Status.Zones = zonesOf(e.Status.Zones, sites)
	e.Status.Console = plain.Console(e.Status.Console)
	e.Status.Below = wire.Within(e.Status.Below)
	now, before := r.store.Judge().Now(), l.cursor.Rows
	reply, err := r.take(ctx, l, e, from, now)
	l.seen.Lock()
	defer l.seen.Unlock()
	l.show.Twin = l.sessions.twin(now)
	if err != nil {
		l.show.Refused++
		l.show.LastError = err.Error()
		return reply, err
	}
	if !l.show.Up(now) {
		l.show.ReturnedAt, l.show.Returned = now, e.Status
	}
	l.show.HeardAt, l.show.Status = now, e.Status
	if left := e.Status.BacklogRows - int(l.cursor.Rows-before); left > 0 { // what came with it waits no longer
		l.show.Status.BacklogRows = left
	} else {
		l.show.Status.BacklogRows, l.show.Status.BacklogSince = 0, time.Time{}
	}
	l.show.Batches, l.show.Rows = l.cursor.Stored, l.cursor.Rows
	return reply, nil
}

// otherVersion refuses what speaks another version. Its link says so.
func (r *Receiver) otherVersion(gateway, token, from string, other *wire.VersionError) error {
	l, _, err := r.admit(gateway, token, from)
	if err != nil {
		return err
	}
	l.seen.Lock()
	defer l.seen.Unlock()
	l.show.Refused++
	l.show.LastError = other.Error()
	return no(wire.CodeVersion, "%v", other)
}

// admit returns the link of a gateway that proves to be the one it says, and the sites it may send.
func (r *Receiver) admit(gateway, token, from string) (*link, []string, error) {
	r.mu.RLock()
	l := r.links[gateway]
	r.mu.RUnlock()
	if l != nil && l.token != "" && subtle.ConstantTimeCompare([]byte(l.token), []byte(token)) == 1 {
		return l, l.sites, nil
	}
	c, err := r.enrolled.CheckCredential(gateway, token, from)
	switch {
	case err != nil:
		return nil, nil, err
	case c.Revoked:
		return nil, nil, no(wire.CodeRevoked, "the credential of gateway %q does not count any more: %s", gateway,
			c.Why)
	case !c.Good && c.Why != "":
		return nil, nil, no(wire.CodeToken, "gateway %q: %s", gateway, c.Why)
	case !c.Good:
		return nil, nil, no(wire.CodeToken, "the token is not that of gateway %q", gateway)
	}
	l, err = r.link(gateway)
	return l, c.Sites, err
}

// Knows refuses a token that no gateway has, so that nobody else makes us read and parse a body.
func (r *Receiver) Knows(token string) error {
	if !r.anyToken(token) && !r.enrolled.AnyCredential(token) {
		return no(wire.CodeToken, "the token is missing or not known here")
	}
	return nil
}

func (r *Receiver) anyToken(token string) bool {
	r.mu.RLock()
	defer r.mu.RUnlock()
	found := 0
	for _, l := range r.links {
		if l.token == "" {
			continue
		}
		found |= subtle.ConstantTimeCompare([]byte(l.token), []byte(token))
	}
	return found == 1
}

// take stores what the envelope carries. l.mu is held.
func (r *Receiver) take(ctx context.Context, l *link, e wire.Envelope, from string, now time.Time) (wire.Reply, error) {
	if err := l.sessions.admit(e.Session, e.Number, from, now); err != nil {
		return wire.Reply{}, err
	}
	reply := wire.Reply{
		Lost: lost(l.cursor, e.Acked) || l.again.Swap(false), Twin: l.sessions.twin(now), Speaks: wire.Version, Above: r.above(),
	}
	if e.Acked.Life != "" {
		others, all := l.sessions.since(e.Acked.Stored)
		reply.Since, reply.Lost = others, reply.Lost || !all
	}
	if len(e.Batch) == 0 {
		reply.Position = wire.Position{Life: l.cursor.Life, Stored: l.cursor.Stored}
		if reply.Life == "" {
			reply.Life = r.life
		}
		return reply, r.ask(l.gateway, e, &reply)
	}
	got, err := r.unpack(ctx, l, e.Batch)
	if err != nil {
		return wire.Reply{}, err
	}
	next := l.cursor
	if next.Life != r.life {
		if next.Life != "" {
			next.Lives = append(next.Lives[:len(next.Lives):len(next.Lives)],
				records.Life{ID: next.Life, Stored: next.Stored})
			next.Lives = next.Lives[max(0, len(next.Lives)-mostLives):]
		}
		next.Life = r.life
	}
	status, err := json.Marshal(e.Status)
	if err != nil {
		return wire.Reply{}, err
	}
	next.Stored++
	next.Rows += uint64(got.rows)
	next.Updated, next.Status = now, status
	next.Session, next.Sent, next.Retired, next.Dropped = l.sessions.current, l.sessions.number, l.sessions.retired, l.sessions.dropped
	got.Also = append(got.Also, r.cursors.Put(next))
	if err := r.committer.write(got.Batch, got.rows+got.readings); err != nil {
		return wire.Reply{}, err
	}
	for _, after := range got.after {
		after()
	}
	l.cursor, l.sessions.stored = next, next.Stored
	l.note(got.refused, now)
	reply.Position, reply.Refused, reply.RefusedRecords = wire.Position{Life: next.Life, Stored: next.Stored}, got.refused, got.refusedRecords
	return reply, r.ask(l.gateway, e, &reply)
}

// ask adds to a reply what the gateway is asked.
func (r *Receiver) ask(gateway string, e wire.Envelope, reply *wire.Reply) (err error) {
	if r.requests != nil && e.Speaks >= wire.Version {
		reply.Requests, err = r.requests.Hand(gateway, e.Session)
	}
	return err
}

// mostLives is how many earlier lives a cursor remembers. A gateway whose last
// acknowledgement is from before them sends everything again.
const mostLives = 16

// lost reports whether this store lacks what it once acknowledged: it has to be a later
// state of the one that gave the acknowledgement. Within a life the count only rises, and
// of each earlier life the cursor says how far that came before this store went on from
// it; a copy that was taken earlier went on from less.
func lost(c records.Cursor, acked wire.Position) bool {
	if acked.Life == "" {
		return false // it never had one, so everything is marked there
	}
	if acked.Life == c.Life {
		return acked.Stored > c.Stored
	}
	for _, life := range c.Lives {
		if life.ID == acked.Life {
			return acked.Stored > life.Stored
		}
	}
	return true
}

func (l *link) note(refused []wire.RefusedRun, stored time.Time) {
	l.seen.Lock()
	defer l.seen.Unlock()
	l.show.StoredAt = stored
	l.show.Refused += uint64(len(refused))
	for _, one := range refused {
		l.show.LastError = one.Path + ": " + one.Reason
	}
}

// of reports whether a series is of one of the link's sites.
func (l *link) of(path string) bool {
	site, _, below := strings.Cut(path, "/")
	for _, own := range l.now {
		if below && own == site {
			return true
		}
	}
	return false
}

// malformed keeps what could not be read as a reject.
func (r *Receiver) malformed(gateway string, cause error, raw []byte) error {
	if err := r.committer.write(engine.Batch{Also: []sqlite.Change{r.rejects.Add([]reading.Reject{r.reject(gateway,
		cause.Error(), raw)})}}, 0); err != nil {
		return err
	}
	return no(wire.CodeMalformed, "%v", cause)
}

func (r *Receiver) reject(gateway, reason string, raw []byte) reading.Reject {
	from := reading.Origin{Source: "replication", Place: gateway, Raw: raw}
	return from.Reject(r.store.Judge().Now().UnixNano(), reason)
}

// Links returns how each gateway stands, in the order of their names.
func (r *Receiver) Links() []Link {
	now := r.store.Judge().Now()
	revoked := map[string]bool{}
	for _, g := range r.enrolled.Gateways() {
		revoked[g.Name] = !g.Revoked.IsZero()
	}
	r.mu.RLock()
	defer r.mu.RUnlock()
	out := make([]Link, 0, len(r.links))
	for _, l := range r.links {
		if l.token == "" && revoked[l.gateway] {
			continue // nobody waits for it
		}
		l.seen.Lock()
		show := l.show
		l.seen.Unlock()
		if show.Twin != "" {
			l.mu.Lock()
			show.Twin = l.sessions.twin(now)
			l.mu.Unlock()
		}
		out = append(out, show)
	}
	slices.SortFunc(out, func(a, b Link) int { return strings.Compare(a.Gateway, b.Gateway) })
	return out
}

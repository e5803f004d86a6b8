package overhttp

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/access"
	"nexocumula/internal/central"
	"nexocumula/internal/config"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/replica"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/uplink"
	"nexocumula/internal/wire"
)

var quiet = slog.New(slog.DiscardHandler)

// memory returns a folder whose files need no disk, where there is one.
func memory(t *testing.T) string {
	dir, err := os.MkdirTemp("/dev/shm", "uplink-")
	if err != nil {
		return t.TempDir()
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

func openStore(t *testing.T, path string) *store.Store {
	st, err := store.Open(path, quiet, store.Options{})
	require.NoError(t, err)
	return st
}

// office is a central whose network misbehaves on demand. It is the transport of senders.
type office struct {
	t        *testing.T
	store    *store.Store
	receiver *central.Receiver
	stop     func()
	from     string // the gateway that it accepts; "": long-mere
	cannot   string // the path of a series that this central cannot read

	book *access.Book // of gateways that have a credential of their own; nil: there are none

	mu      sync.Mutex
	spoil   func(n int) string // what to do with the n-th request
	rate    int                // bytes a second; 0: any number at once
	n       int
	largest int // bytes of a request

	kept []byte // a request that arrives after the next
}

func newOffice(t *testing.T, path string) *office {
	o := &office{t: t, spoil: func(int) string { return "" }}
	o.open(path)
	return o
}

// open runs the central on a file, as after a start.
func (o *office) open(path string) {
	o.store = openStore(o.t, path)
	r, err := central.NewReceiver(config.Central{Accept: []config.Accept{{
		Gateway: cmp.Or(o.from, "long-mere"),
		Sites:   []string{"long-mere"},
		Token:   "trout",
	}}}, o.store, o.store.Records, o.enrolled())
	require.NoError(o.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { defer close(ended); _ = r.Run(ctx) }()
	o.mu.Lock()
	o.receiver = r
	o.mu.Unlock()
	o.stop = func() { cancel(); <-ended; assert.NoError(o.t, o.store.Close()) }
}

func (o *office) enrolled() central.Enrolled {
	if o.book != nil {
		return o.book
	}
	return nobody{}
}

var errCut = errors.New("the link is cut")

// RoundTrip returns the network, and the HTTP side of a central.
func (o *office) RoundTrip(req *http.Request) (*http.Response, error) {
	body, err := io.ReadAll(req.Body)
	if err != nil {
		return nil, err
	}
	o.mu.Lock()
	o.n++
	how, rate, receiver := o.spoil(o.n), o.rate, o.receiver
	o.largest = max(o.largest, len(body))
	o.mu.Unlock()
	if rate > 0 {
		select {
		case <-time.After(time.Duration(len(body)) * time.Second / time.Duration(rate)):
		case <-req.Context().Done():
			return nil, req.Context().Err()
		}
	}
	if how == "drop" { // the request never arrives
		return nil, errCut
	}
	if req.URL.Path == wire.CredentialPath {
		return o.renew(req, how)
	}
	token := strings.TrimPrefix(req.Header.Get("Authorization"), "Bearer ")
	switch how {
	case "black hole": // nothing comes back, and nobody says so
		<-req.Context().Done()
		return nil, req.Context().Err()
	case "half open": // it arrives, and nothing comes back
		_, _ = receiver.Receive(req.Context(), token, "a test", body)
		<-req.Context().Done()
		return nil, req.Context().Err()
	case "twice": // a proxy sends it again
		_, _ = receiver.Receive(req.Context(), token, "a test", body)
	case "kept": // it arrives after what comes later
		o.kept = body
		return nil, errCut
	}
	if kept := o.kept; kept != nil {
		o.kept = nil
		defer func() { _, _ = receiver.Receive(context.WithoutCancel(req.Context()), token, "a test", kept) }()
	}
	if how == "fail" {
		return answer(http.StatusBadGateway, "a proxy is confused"), nil
	}
	if o.cannot != "" && o.holds(body, o.cannot) {
		return answer(http.StatusBadRequest, `{"code":"malformed","detail":"a summary cannot be read"}`), nil
	}
	reply, err := receiver.Receive(req.Context(), token, "a test", body)
	if how == "lose answer" {
		return nil, errCut
	}
	if err != nil {
		text, _ := json.Marshal(central.RefusalOf(err))
		return answer(http.StatusConflict, string(text)), nil
	}
	text, _ := json.Marshal(reply)
	return answer(http.StatusOK, string(text)), nil
}

// holds says whether a request is about a series.
func (o *office) holds(body []byte, path string) bool {
	e, err := wire.DecodeEnvelope(body)
	require.NoError(o.t, err)
	if len(e.Batch) == 0 {
		return false
	}
	got, err := wire.DecodeBatch(e.Batch)
	runs := got.Runs
	require.NoError(o.t, err)
	return slices.ContainsFunc(runs, func(r wire.Run) bool { return string(r.Def.Path) == path })
}

func answer(status int, text string) *http.Response {
	return &http.Response{StatusCode: status, Body: io.NopCloser(bytes.NewReader([]byte(text))), Header: http.Header{}}
}

func (o *office) count() int {
	everything, err := series.ParseSelector("#")
	require.NoError(o.t, err)
	total := 0
	for _, s := range o.store.List(everything) {
		rows, err := o.store.Read(context.Background(), s.ID, series.Minute, 0, 1<<62)
		require.NoError(o.t, err)
		total += rows.Len()
	}
	return total
}

var settings = config.Uplink{
	Name:     "office",
	Tiers:    []series.Tier{series.Minute},
	Settings: Settings{URL: "http://office", Token: "trout"},
}

func own(p series.Path) bool { return strings.HasPrefix(string(p), "long-mere/") }

// site is a gateway's store of summaries and its sender.
type site struct {
	t       *testing.T
	store   *store.Store
	sender  *uplink.Sender
	carrier *carrier
	minute  int64
	as      string // under which it sends; "": long-mere
}

// opened are settings that show what carrier they open, and give it a network.
type opened struct {
	Settings
	network http.RoundTripper
	carrier **carrier
}

func (o opened) Open(with uplink.Opening) (uplink.Carrier, error) {
	c, err := o.open(with)
	if err == nil {
		c.http.Transport = o.network
		*o.carrier = c
	}
	return c, err
}

func newSite(t *testing.T, path string, o *office) *site {
	s := &site{t: t, store: openStore(t, path)}
	s.connect(settings, o)
	return s
}

func (s *site) connect(settings config.Uplink, o *office) { s.connectIn(settings, "", o) }

// connectIn connects a service whose folder is data.
func (s *site) connectIn(settings config.Uplink, data string, o *office) {
	box, err := s.store.Outboxes.Open(settings.Name, uplink.ScopeOf(settings, own))
	require.NoError(s.t, err)
	settings.Settings = opened{settings.Settings.(Settings), o, &s.carrier}
	describe := func() wire.Status { return wire.Status{SentAt: time.Now()} }
	s.sender, err = uplink.New(settings, box, uplink.From{
		As:       cmp.Or(s.as, "long-mere"),
		Data:     data,
		Describe: describe,
		Store:    s.store,
		Records:  replica.Records(s.store.Records, replica.Hooks{}),
		Log:      quiet,
	})
	require.NoError(s.t, err)
}

var oxygen = series.Definition{Path: "long-mere/buoy-1/oxygen", Kind: series.Gauge, FreshFor: time.Minute}

// roll makes n summaries of the minutes that follow, as the pipeline does.
func (s *site) roll(n int) { s.rollOf(oxygen, n) }

func (s *site) rollOf(def series.Definition, n int) {
	rows := rollup.NewBlock(def.Kind, n)
	for range n {
		start := s.minute * int64(time.Minute)
		rollup.Summary{Count: 1, MinAt: start, MaxAt: start, FirstAt: start, LastAt: start}.AddTo(&rows, start,
			def.Kind)
		s.minute++
	}
	ids, err := s.store.Define(context.Background(), []series.Definition{def})
	require.NoError(s.t, err)
	require.NoError(s.t, s.store.Append(context.Background(), engine.Batch{Entries: []engine.Entry{
		{Series: ids[0], Tier: series.Minute, Rows: rows},
		{Series: ids[0], Tier: series.TenSecond, Rows: rows},
	}}))
}

func (s *site) run() (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.sender.Run(ctx) }()
	return func() {
		cancel()
		assert.NoError(s.t, <-done)
	}
}

func (s *site) waiting() int { return s.sender.Outbox().Backlog().Rows }

// nobody was enrolled.
type nobody struct{}

func (nobody) AnyCredential(string) bool { return false }

func (nobody) CheckCredential(string, string, string) (access.Credential, error) {
	return access.Credential{}, nil
}

func (nobody) Gateways() []access.EnrolledGateway { return nil }

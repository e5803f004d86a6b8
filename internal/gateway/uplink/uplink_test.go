package uplink

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/central"
	"nexocumula/internal/config"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/sketch"
	"nexocumula/internal/store"
	"nexocumula/internal/wire"
)

// office is a central whose network misbehaves on demand.
type office struct {
	t      *testing.T
	server *httptest.Server

	mu      sync.Mutex
	store   *store.Store
	handler http.Handler
	spoil   func(n int) string // what to do with the n-th request
	n       int
}

func newOffice(t *testing.T) *office {
	o := &office{t: t, spoil: func(int) string { return "" }}
	o.replace()
	o.server = httptest.NewServer(http.HandlerFunc(o.serve))
	t.Cleanup(o.server.Close)
	return o
}

// replace gives the office an empty store, as after its disk was lost.
func (o *office) replace() {
	st := openStore(o.t)
	r, err := central.NewReceiver(config.Central{Accept: []config.Accept{{Gateway: "long-mere", Token: "trout"}}}, st)
	require.NoError(o.t, err)
	o.mu.Lock()
	defer o.mu.Unlock()
	o.store, o.handler = st, receiving(r)
}

// receiving is the HTTP side of a receiver, without the rest of a service.
func receiving(r *central.Receiver) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		body, _ := io.ReadAll(req.Body)
		reply, err := r.Receive(strings.TrimPrefix(req.Header.Get("Authorization"), "Bearer "), body)
		if err != nil {
			w.WriteHeader(http.StatusConflict)
			_ = json.NewEncoder(w).Encode(map[string]any{"error": central.RefusalOf(err)})
			return
		}
		_ = json.NewEncoder(w).Encode(reply)
	})
}

func (o *office) serve(w http.ResponseWriter, r *http.Request) {
	o.mu.Lock()
	o.n++
	how, handler := o.spoil(o.n), o.handler
	o.mu.Unlock()
	switch how {
	case "drop": // the request never arrives
		_, _ = io.Copy(io.Discard, r.Body)
		panic(http.ErrAbortHandler)
	case "lose answer": // it arrives, the answer does not
		handler.ServeHTTP(httptest.NewRecorder(), r)
		panic(http.ErrAbortHandler)
	case "fail":
		http.Error(w, "a proxy is confused", http.StatusBadGateway)
	default:
		handler.ServeHTTP(w, r)
	}
}

func (o *office) summaries() int {
	o.mu.Lock()
	defer o.mu.Unlock()
	everything, err := series.ParseSelector("#")
	require.NoError(o.t, err)
	total := 0
	for _, s := range o.store.List(everything) {
		rows, err := o.store.Read(s.ID, rollup.Minute, 0, 1<<62)
		require.NoError(o.t, err)
		total += rows.Len()
	}
	return total
}

func openStore(t *testing.T) *store.Store {
	st, err := store.Open(filepath.Join(t.TempDir(), "s.db"), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	return st
}

// site is a gateway's outbox and sender with a store of summaries.
type site struct {
	t      *testing.T
	store  *store.Store
	outbox *Outbox
	sender *Sender
	minute int64
}

func newSite(t *testing.T, address string) *site {
	s := &site{t: t, store: openStore(t)}
	settings := config.Uplink{Name: "office", Address: address, Tiers: []rollup.Tier{rollup.Minute}, Token: "trout"}
	var err error
	s.outbox, err = OpenOutbox(settings, s.store)
	require.NoError(t, err)
	between := func(_ context.Context, f func() error) error { return f() }
	s.sender = NewSender("long-mere", settings, s.outbox, s.store, between, func() wire.Status { return wire.Status{SentAt: time.Now()} }, slog.New(slog.DiscardHandler))
	return s
}

// roll makes n summaries of the minutes that follow, as the pipeline does.
func (s *site) roll(n int) {
	def := series.Definition{Path: "long-mere/buoy-1/oxygen", Kind: series.Gauge, FreshFor: time.Minute}
	ids, err := s.store.Define([]series.Definition{def})
	require.NoError(s.t, err)
	rows := rollup.NewBlock(series.Gauge, n)
	for range n {
		start := s.minute * int64(time.Minute)
		rollup.Summary{Count: 1, FirstAt: start, LastAt: start}.AddTo(&rows, start, series.Gauge)
		s.minute++
	}
	parcels, err := s.outbox.Parcels([]wire.Run{{Def: def, Tier: rollup.Minute, Rows: rows}, {Def: def, Tier: rollup.TenSecond, Rows: rows}})
	require.NoError(s.t, err)
	require.NoError(s.t, s.store.Append(store.Batch{Entries: []store.Entry{{Series: ids[0], Tier: rollup.Minute, Rows: rows}}, Outbox: parcels}))
	s.outbox.Stored(parcels)
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

func (s *site) emptied() bool {
	b, err := s.store.Backlog("office")
	require.NoError(s.t, err)
	return b.Rows == 0
}

func waitFor(t *testing.T, what string, happened func() bool) {
	t.Helper()
	require.Eventually(t, happened, time.Minute, 10*time.Millisecond, what)
}

func TestWhateverTheNetworkDoesEverySummaryArrivesOnce(t *testing.T) {
	o := newOffice(t)
	o.spoil = func(n int) string { return []string{"drop", "lose answer", "fail", "", "lose answer"}[n%5] }
	s := newSite(t, o.server.URL)
	s.roll(10)
	stop := s.run()
	for range 20 {
		s.roll(3)
	}
	waitFor(t, "the outbox is empty", s.emptied)
	stop()
	assert.Equal(t, 70, o.summaries())
	tally := s.sender.Tally()
	assert.EqualValues(t, 70, tally.AckedRows)
	assert.Positive(t, tally.Failures)
	assert.Zero(t, tally.Refills)
}

func TestTheOutboxSurvivesARestart(t *testing.T) {
	o := newOffice(t)
	s := newSite(t, o.server.URL)
	s.roll(5)
	again, err := OpenOutbox(config.Uplink{Name: "office", Tiers: rollup.Tiers}, s.store)
	require.NoError(t, err)
	assert.Equal(t, s.outbox.epoch, again.epoch)
	assert.Equal(t, s.outbox.next, again.next)
	stop := s.run()
	waitFor(t, "the outbox is empty", s.emptied)
	stop()
	again, err = OpenOutbox(config.Uplink{Name: "office", Tiers: rollup.Tiers}, s.store)
	require.NoError(t, err)
	assert.Equal(t, s.outbox.next, again.next, "also when nothing waits in it")
}

func TestACentralThatLostItsDiskGetsEverythingAgain(t *testing.T) {
	o := newOffice(t)
	s := newSite(t, o.server.URL)
	s.roll(40)
	stop := s.run()
	waitFor(t, "the outbox is empty", s.emptied)
	o.replace()
	s.roll(2)
	waitFor(t, "everything is there again", func() bool { return o.summaries() == 42 })
	stop()
	assert.EqualValues(t, 1, s.sender.Tally().Refills)
}

func TestAGatewayRestoredFromAnOlderCopySendsEverythingAgain(t *testing.T) {
	o := newOffice(t)
	s := newSite(t, o.server.URL)
	for range 5 {
		s.roll(1)
	}
	stop := s.run()
	waitFor(t, "the outbox is empty", s.emptied)
	stop()
	older := newSite(t, o.server.URL) // the same gateway, and none of what it had sent
	older.outbox.epoch = s.outbox.epoch
	require.NoError(t, older.store.Acknowledge("office", store.Cursor{Name: cursorName("office"), Epoch: s.outbox.epoch}))
	older.minute = 100
	older.roll(2)
	stop = older.run()
	waitFor(t, "its summaries are there too", func() bool { return o.summaries() == 7 })
	stop()
	assert.EqualValues(t, 1, older.sender.Tally().Refills)
}

func TestAWrongTokenIsSaidAndNothingIsLost(t *testing.T) {
	o := newOffice(t)
	s := newSite(t, o.server.URL)
	s.sender.settings.Token = "salmon"
	s.roll(3)
	stop := s.run()
	waitFor(t, "the refusal is seen", func() bool { return s.sender.Tally().LastError != "" })
	stop()
	tally := s.sender.Tally()
	assert.False(t, tally.Up)
	assert.Contains(t, tally.LastError, "the token is missing or not known here")
	b, err := s.store.Backlog("office")
	require.NoError(t, err)
	assert.Equal(t, 3, b.Rows)
}

func TestLargeRollsBecomeManyParcels(t *testing.T) {
	s := newSite(t, "http://127.0.0.1:1")
	s.roll(2*mostRows + 5)
	waiting, err := s.store.Waiting("office", 1, 100, 1<<30)
	require.NoError(t, err)
	require.Len(t, waiting, 3)
	assert.Equal(t, [3]int{mostRows, mostRows, 5}, [3]int{waiting[0].Rows, waiting[1].Rows, waiting[2].Rows})
}

func TestSketchesAreSentAgainToo(t *testing.T) {
	s := newSite(t, "http://127.0.0.1:1")
	def := series.Definition{Path: "long-mere/buoy-1/oxygen", Kind: series.Gauge, FreshFor: time.Minute, Sketch: true}
	ids, err := s.store.Define([]series.Definition{def})
	require.NoError(t, err)
	sk := sketch.New()
	require.NoError(t, sk.Add(9.5))
	var kept []store.Sketch
	for i := range int64(3) {
		kept = append(kept, store.Sketch{Series: ids[0], Start: i * int64(rollup.Quarter), Data: sk.Bytes()})
	}
	require.NoError(t, s.store.Append(store.Batch{Sketches: kept}))
	require.NoError(t, s.outbox.refill())
	parcels, err := s.store.Waiting("office", 0, 10, 1<<20)
	require.NoError(t, err)
	require.Len(t, parcels, 1)
	assert.Equal(t, 3, parcels[0].Rows)
	runs, err := wire.DecodeBatch(parcels[0].Payload)
	require.NoError(t, err)
	require.Len(t, runs, 1)
	assert.Equal(t, def, runs[0].Def)
	assert.Equal(t, rollup.Quarter, runs[0].Tier)
	assert.Equal(t, kept[2].Start, runs[0].Sketches[2].Start)
}

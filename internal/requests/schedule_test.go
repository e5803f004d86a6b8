package requests

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"nexocumula/internal/core/request"
	"nexocumula/internal/core/series"
	"nexocumula/internal/replica"
	"nexocumula/internal/rounds"
	"nexocumula/internal/store"
	"nexocumula/internal/store/records"
	"nexocumula/internal/store/sqlite"
	"nexocumula/internal/wire"
)

// end is one end with its store, which can be stopped, started and restored.
type end struct {
	t      *testing.T
	dir    string
	store  *store.Store
	ledger *Ledger
	stop   func()
	make   func(st *store.Store) *Ledger
}

func (e *end) start() {
	st, err := store.Open(filepath.Join(e.dir, "s.db"), slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(e.t, err)
	e.store, e.ledger = st, e.make(st)
	ctx, cancel := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Go(func() { assert.NoError(e.t, e.ledger.Run(ctx)) })
	e.stop = func() {
		cancel()
		running.Wait()
		require.NoError(e.t, st.Close())
	}
}

// copyTo copies the store of an end that is stopped.
func (e *end) copyTo(dir string) {
	require.NoError(e.t, os.RemoveAll(dir))
	require.NoError(e.t, os.CopyFS(dir, os.DirFS(e.dir)))
}

// pair is a central that asks and a gateway that carries out, with a network between them that loses things.
type pair struct {
	t                *testing.T
	random           *rand.Rand
	central, gateway *end
	session          string
	sent             uint64 // change up to which the gateway's answers are acknowledged
	hasCopy          bool

	mu   sync.Mutex
	done map[string]int // how often each request was carried out
}

func newPair(t *testing.T, random *rand.Rand) *pair {
	p := &pair{t: t, random: random, done: map[string]int{}}
	nothing := func(string, string, string, string, string) {}
	settle := func(records.Request) error { return nil }
	log := slog.New(slog.DiscardHandler)
	carry := func(_ context.Context, r records.Request) (Outcome, error) {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.done[r.UID]++
		if r.Kind == request.Readings && p.done[r.UID]%3 != 0 {
			return Outcome{Progress: 0.5}, nil
		}
		return Outcome{Done: true, Answer: map[string]int{"times": p.done[r.UID]}}, nil
	}
	p.central = &end{t: t, dir: t.TempDir(), make: func(st *store.Store) *Ledger {
		route := func(site string) (string, bool) { return "stony-beck", site == "stony-beck" }
		return New(st.Requests, time.Now, "", route, nil, nothing, func(string, []series.Path, int64, int64, bool, time.Time) error { return nil }, settle, log)
	}}
	p.gateway = &end{t: t, dir: t.TempDir(), make: func(st *store.Store) *Ledger {
		doers := map[string]Doer{request.Read: carry, request.Readings: carry}
		return New(st.Requests, time.Now, "stony-beck", nil, doers, nothing, nil, settle, log)
	}}
	p.central.start()
	p.gateway.start()
	p.session = "first"
	return p
}

// cross carries an envelope up and its answer down, unless one of them gets lost.
func (p *pair) cross(loses bool) {
	kinds := func(of *store.Store, answered func(records.Request)) replica.RecordKind {
		all := replica.Records(of.Records, replica.Hooks{Answered: answered})
		return all[slices.IndexFunc(all, func(k replica.RecordKind) bool { return k.Name == records.AnswersKind })]
	}
	up, err := kinds(p.gateway.store, nil).Since(p.sent, 100)
	require.NoError(p.t, err)
	if loses && p.random.IntN(4) == 0 {
		return
	}
	var changes []sqlite.Change
	var after []func()
	change := p.sent
	for _, r := range up {
		in, err := kinds(p.central.store, p.central.ledger.Answered).Read(r.Wire, time.Now())
		require.NoError(p.t, err)
		changes, after, change = append(changes, in.Take), append(after, in.After), r.Change
	}
	require.NoError(p.t, p.central.store.Requests.Write(func(tx *gorm.DB) error {
		for _, c := range changes {
			if err := c(tx); err != nil {
				return err
			}
		}
		return nil
	}))
	for _, do := range after {
		do()
	}
	down, err := p.central.ledger.Hand("stony-beck", p.session)
	require.NoError(p.t, err)
	if loses && p.random.IntN(4) == 0 {
		return
	}
	p.sent = change
	require.NoError(p.t, p.gateway.ledger.Take("up", request.Harmless(), slices.Clone(down)))
}

func (p *pair) restartGateway(restored bool) {
	p.gateway.stop()
	p.session = fmt.Sprint("session ", p.random.Uint64())
	if restored && p.hasCopy {
		copied := &end{t: p.t, dir: p.gateway.dir + ".copy"}
		copied.copyTo(p.gateway.dir)
		p.sent = 0 // its central sees that it is a copy, and has it send everything again
	}
	p.gateway.start()
}

// Whatever gets lost, is stopped, or is put back from a copy: a request that may be carried out once is carried out once at most,
// those that may be repeated are done in the end, and the central knows how each ended.
func TestRequestsAreCarriedOutOnceAtMost(t *testing.T) {
	for seed := range uint64(rounds.Of(25)) {
		synctest.Test(t, func(t *testing.T) {
			random := rand.New(rand.NewPCG(seed, 30))
			p := newPair(t, random)
			var asked []records.Request
			for range 60 {
				switch n := random.IntN(20); {
				case n < 4:
					kind := []string{request.Read, request.Readings}[random.IntN(2)]
					r, err := p.central.ledger.Ask(records.Request{Site: "stony-beck", Kind: kind, Author: "warden", Expires: time.Now().Add(time.Hour), Body: []byte(`{}`)})
					require.NoError(t, err)
					asked = append(asked, r)
				case n < 14:
					p.cross(true)
				case n < 15:
					p.restartGateway(false)
				case n < 16:
					p.restartGateway(true)
				case n < 17:
					p.gateway.stop()
					p.gateway.copyTo(p.gateway.dir + ".copy")
					p.hasCopy = true
					p.session = fmt.Sprint("session ", random.Uint64())
					p.gateway.start()
				case n < 18:
					p.central.stop()
					p.central.start()
				default:
					time.Sleep(time.Duration(random.IntN(5000)) * time.Millisecond)
				}
			}
			for range 40 {
				p.cross(false)
				time.Sleep(2 * time.Second)
			}
			time.Sleep(2 * time.Hour) // what nobody answers expires
			p.cross(false)
			for _, r := range asked {
				kept, ok, err := p.central.store.Requests.Get(r.UID)
				require.NoError(t, err)
				require.True(t, ok)
				assert.True(t, kept.State.Final(), "seed %d: %s is %s", seed, r.Kind, kept.State)
				p.mu.Lock()
				times := p.done[r.UID]
				p.mu.Unlock()
				if r.Kind == request.Readings {
					assert.Equal(t, request.Done, kept.State, "seed %d: %s", seed, kept.Detail)
					continue
				}
				assert.LessOrEqual(t, times, 1, "seed %d: %s", seed, r.UID)
				if kept.State == request.Done {
					assert.Equal(t, 1, times)
					var answer map[string]int
					require.NoError(t, json.Unmarshal(kept.Answer, &answer))
					assert.Equal(t, 1, answer["times"])
				}
			}
			p.central.stop()
			p.gateway.stop()
		})
		if t.Failed() {
			return
		}
	}
}

func TestARequestThatIsNotAllowedIsRefusedWithTheReason(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := newPair(t, rand.New(rand.NewPCG(1, 1)))
		defer p.central.stop()
		defer p.gateway.stop()
		later, body := time.Now().Add(time.Hour), json.RawMessage(`{}`)
		require.NoError(t, p.gateway.ledger.Take("up", request.Harmless(), []wire.Request{
			{ID: "a", Site: "stony-beck", Kind: request.Notes, ExpiresAt: later, Body: body},
			{ID: "b", Site: "long-mere", Kind: request.Read, ExpiresAt: later, Body: body},
			{ID: "c", Site: "stony-beck", Kind: "dance", ExpiresAt: later, Body: body},
			{ID: "d", Site: "stony-beck", Kind: request.Read, ExpiresAt: time.Now().Add(-time.Second), Body: body},
		}))
		for id, why := range map[string]string{
			"a": "uplink up does not allow requests of kind notes: its allow: has readings, read, reconcile", "b": "site long-mere is not known here",
			"c": `requests of kind "dance" are not known here; this service knows readings, read, reconcile, notes`, "d": "it came after its time was over",
		} {
			kept, _, err := p.gateway.store.Requests.Get(id)
			require.NoError(t, err)
			assert.Equal(t, request.Refused, kept.State)
			assert.Equal(t, why, kept.Detail)
		}
		assert.Empty(t, p.done)
	})
}

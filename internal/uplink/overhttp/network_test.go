package overhttp

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/gap"
	"nexocumula/internal/core/series"
	"nexocumula/internal/reconcile"
	"nexocumula/internal/replica"
	"nexocumula/internal/rounds"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/records"
	"nexocumula/internal/wire"
)

// A network is a gateway with uplinks to a plant and to a lab, and the plant's uplink to the company. Summaries, notes and
// gaps are made over weeks, while each link does what links do, all of them crash, and centrals are put back from older copies.
type network struct {
	world
	links  [3]*link
	copied [3][]string // of the central of each link
}

// link is an uplink and the central that it sends to.
type link struct {
	name string
	from *site
	to   *office
}

func uplinkTo(name string) config.Uplink {
	out := settings
	out.Name = name
	return out
}

func newNetwork(t *testing.T, seed uint64) *network {
	n := &network{world: world{t: t, random: rand.New(rand.NewPCG(seed, 30)), folder: memory(t)}}
	plant, lab := newOffice(t, n.file()), newOffice(t, n.file())
	company := &office{t: t, from: "plant", spoil: func(int) string { return "" }}
	company.open(n.file())
	n.links = [3]*link{{name: "plant", to: plant}, {name: "lab", to: lab}, {name: "company", to: company}}
	n.gateway(n.file())
	n.company()
	return n
}

// gateway starts the gateway on a file.
func (n *network) gateway(file string) {
	if n.s != nil {
		require.NoError(n.t, n.s.store.Close())
	}
	st := openStore(n.t, file)
	for _, l := range n.links[:2] {
		l.from = &site{t: n.t, store: st}
		l.from.connect(uplinkTo(l.name), l.to)
	}
	n.s = n.links[0].from
}

// company connects the plant to the company.
func (n *network) company() {
	up := n.links[2]
	up.from = &site{t: n.t, store: n.links[0].to.store, as: "plant"}
	up.from.connect(uplinkTo("company"), up.to)
}

// central starts the central of a link on a file.
func (n *network) central(i int, file string) {
	n.links[i].to.stop()
	n.links[i].to.open(file)
	if i == 0 {
		n.company()
	}
}

const fortnight = 14 * 24 * time.Hour

func (n *network) step() {
	i := n.random.IntN(len(n.links))
	switch n.random.IntN(16) {
	case 0, 1, 2:
		n.write()
	case 3:
		n.note()
	case 4:
		n.gap()
	case 5:
		for _, st := range []*store.Store{n.s.store, n.links[i].to.store} {
			require.NoError(n.t, st.Seal(context.Background(), engine.Sealing{}))
		}
	case 6:
		n.gateway(n.copy(n.s.store))
	case 7:
		n.central(i, n.copy(n.links[i].to.store))
	case 8:
		n.copied[i] = append(n.copied[i], n.copy(n.links[i].to.store))
	case 9:
		if have := n.copied[i]; len(have) > 0 && n.random.IntN(2) == 0 {
			n.central(i, n.again(have[n.random.IntN(len(have))]))
		}
	case 10: // weeks pass within a schedule
		time.Sleep(time.Duration(n.random.Int64N(int64(fortnight))))
	default:
		n.send(n.links[i])
	}
}

func (n *network) send(l *link) {
	l.from.carrier.sizer.bytes = 12 * float64(1+n.random.IntN(30))
	how := mishaps[n.random.IntN(len(mishaps))]
	l.to.spoil = func(int) string { return how }
	_, _ = l.from.sender.SendOnce(n.t.Context())
	l.to.spoil = func(int) string { return "" }
	require.NoError(n.t, l.from.sender.Outbox().Save())
}

func (n *network) note() {
	place := fmt.Sprintf("long-mere/buoy-%d", n.random.IntN(3))
	if n.random.IntN(3) == 0 {
		found, err := n.s.store.Notes.Between(time.Unix(0, 0), time.Now().Add(time.Hour), 100, func(r records.Note) bool { return r.About == place })
		require.NoError(n.t, err)
		if len(found) > 0 {
			require.NoError(n.t, n.s.store.Notes.Remove(found[n.random.IntN(len(found))].ID))
			return
		}
	}
	n.s.pin(place, fmt.Sprint("note ", n.random.IntN(1e6)))
}

func (n *network) gap() {
	end := time.Now().UTC().Truncate(time.Second)
	require.NoError(n.t, n.s.store.Gaps.Add(records.Gap{
		Series: series.Path(fmt.Sprintf("long-mere/buoy-%d/oxygen", n.random.IntN(3))), From: end.Add(-time.Minute), To: end, Cause: gap.GatewayOff,
	}))
	time.Sleep(2 * time.Minute)
}

// settle ends the faults, and has all links send until nothing waits.
func (n *network) settle(what string, prove bool) {
	for quiet, i := 0, 0; quiet < 2; i++ {
		require.Less(n.t, i, 10_000, "%s: it does not end", what)
		quiet++
		for _, l := range n.links {
			_, err := l.from.sender.SendOnce(n.t.Context())
			if later(err) {
				quiet = 0
				continue
			}
			require.NoError(n.t, err, "%s: to the %s", what, l.name)
			if left := l.from.sender.Outbox().Backlog(); left.Rows+left.Records > 0 {
				quiet = 0
			}
		}
	}
	want := dump(n.t, n.s.store)
	for _, l := range n.links {
		require.Equal(n.t, want, dump(n.t, l.to.store), "%s: at the %s", what, l.name)
		require.Empty(n.t, l.from.sender.Outbox().Refused())
		if prove {
			l.prove(n.t, what)
		}
	}
}

// dumped is all of a store that is sent.
type dumped struct {
	summaries map[window][2]float64
	notes     []string
	gaps      []string
}

func dump(t *testing.T, st *store.Store) dumped {
	out := dumped{summaries: held(t, st), notes: notesOf(t, st)}
	found, err := st.Gaps.Between(time.Unix(0, 0), time.Now().Add(time.Hour), nil)
	require.NoError(t, err)
	for _, g := range found {
		out.gaps = append(out.gaps, fmt.Sprint(g.Series, g.From.Unix(), g.To.Unix(), g.Cause))
	}
	slices.Sort(out.gaps)
	slices.Sort(out.notes)
	return out
}

// prove compares both ends as a service does.
func (l *link) prove(t *testing.T, what string) {
	kept := func(series.Tier) int64 { return 0 }
	kinds := replica.Records(l.to.store.Records, replica.Hooks{})
	teller := &reconcile.Teller{Store: l.to.store, Kept: kept, Called: l.to.store.Called, Records: func(kind string, sites []string) ([]wire.RecordState, error) {
		i := slices.IndexFunc(kinds, func(k replica.RecordKind) bool { return k.Name == kind })
		return reconcile.States(kinds[i], reconcile.OfSites(sites))
	}}
	comparer := &reconcile.Comparer{
		Store: l.from.store, Box: l.from.sender.Outbox(), Kinds: replica.Records(l.from.store.Records, replica.Hooks{}), Sends: own,
		About: reconcile.OfSites([]string{"long-mere"}), Tiers: settings.Tiers, Kept: kept, Settle: time.Millisecond,
		Ask: func(ctx context.Context, in wire.Compare) (wire.Compared, error) {
			return teller.Compare(ctx, in, []string{"long-mere"})
		},
	}
	found, err := comparer.Run(t.Context(), 0, time.Now().UnixNano())
	require.NoError(t, err, what)
	require.Zero(t, found.Different(), "%s: to the %s: %+v %+v", what, l.name, found.Differences, found.RecordsDiffer)
	require.Positive(t, found.Rows)
}

const networkSchedules = 20 // of each network

func TestEveryScheduleOfANetworkEndsInEquality(t *testing.T) {
	rounds.Alone(t)
	most := rounds.Of(10)
	for part := range 2 {
		t.Run(fmt.Sprint(part), func(t *testing.T) {
			t.Parallel()
			for seed := part; seed < most && !t.Failed(); seed += 2 {
				synctest.Test(t, func(t *testing.T) {
					n := newNetwork(t, uint64(seed))
					n.write()
					for k := range networkSchedules {
						for range 2 * steps {
							n.step()
						}
						n.settle(fmt.Sprintf("network %d, schedule %d", seed, k), k%5 == 4)
					}
					require.NoError(t, n.s.store.Close())
					for _, l := range n.links {
						l.to.stop()
					}
				})
			}
		})
	}
}

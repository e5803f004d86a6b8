package reconcile

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/replica"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/outbox"
	"nexocumula/internal/store/records"
	"nexocumula/internal/wire"
)

var began = time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC).UnixNano()

const quarter = int64(series.Quarter)

// ends are a gateway and its central.
type ends struct {
	t        *testing.T
	here     *store.Store
	there    *store.Store
	comparer *Comparer
	bytes    int // that crossed
}

func newEnds(t *testing.T) *ends {
	e := &ends{t: t}
	for _, to := range []**store.Store{&e.here, &e.there} {
		st, err := store.Open(filepath.Join(t.TempDir(), "s.db"), slog.New(slog.DiscardHandler), store.Options{})
		require.NoError(t, err)
		t.Cleanup(func() { assert.NoError(t, st.Close()) })
		*to = st
	}
	kinds := replica.Records(e.there.Records, replica.Hooks{})
	teller := &Teller{
		Store: e.there, Kept: func(series.Tier) int64 { return 0 }, Called: e.there.Called,
		Records: func(kind string, sites []string) ([]wire.RecordState, error) {
			i := slices.IndexFunc(kinds, func(k replica.RecordKind) bool { return k.Name == kind })
			return States(kinds[i], OfSites(sites))
		},
	}
	all := func(series.Path) bool { return true }
	about := func(string) bool { return true }
	box, err := e.here.Outboxes.Open("up", outbox.Scope{Series: all, About: about})
	require.NoError(t, err)
	e.comparer = &Comparer{
		Store: e.here, Box: box, Kinds: replica.Records(e.here.Records, replica.Hooks{}), Sends: all, About: about,
		Kept: func(series.Tier) int64 { return 0 }, Settle: time.Millisecond,
		Ask: func(ctx context.Context, in wire.Compare) (out wire.Compared, err error) {
			text, err := wire.EncodeCompare(in)
			require.NoError(t, err)
			require.Less(t, len(text), wire.MaxEnvelope)
			var asked wire.Compare
			require.NoError(t, wire.DecodeCompare(text, &asked))
			got, err := teller.Compare(ctx, asked, []string{"stony-beck"})
			require.NoError(t, err)
			answer, err := wire.EncodeCompare(got)
			require.NoError(t, err)
			e.bytes += len(text) + len(answer)
			return out, wire.DecodeCompare(answer, &out)
		},
	}
	return e
}

// acknowledge has nothing wait.
func (e *ends) acknowledge() {
	for _, fresh := range []bool{true, false} {
		for {
			if _, ok := e.comparer.Box.Take(fresh); !ok {
				break
			}
		}
	}
	e.comparer.Box.Acknowledge(nil)
}

func define(i int) series.Definition {
	def := series.Definition{
		Path: series.Path(fmt.Sprintf("stony-beck/raceway-%d/%d", i%7, i)), Kind: []series.Kind{series.Gauge, series.Counter, series.State, series.Bearing}[i%4],
		Unit: "mg/l", FreshFor: time.Minute, Sketch: i%3 == 0,
	}
	def.Tiers, _ = series.ParseTiers([]string{"1m", "15m"})
	return def
}

// summary returns a row that is the same each time.
func summary(kind series.Kind, at int64, more float64, into *column.Block) {
	v := float64(at/1e9%977) / 8
	sum := rollup.Summary{
		Count: 6 + more, Mean: v, Min: v - 1, Max: v + 1, First: v, Last: v, LastAt: at + 5e9, FirstAt: at, MinAt: at, MaxAt: at + 1e9,
		Covered: time.Minute, M2: 1, Held: v,
	}
	sum.AddTo(into, at, kind)
}

// Of a thousand differences of all kinds, planted at random, each is found, and nothing else.
func TestEachOfAThousandDifferencesIsFound(t *testing.T) {
	e := newEnds(t)
	const count, days, seed = 40, 6, 30
	random := rand.New(rand.NewPCG(seed, 1))
	want := map[string]bool{}
	name := func(d wire.Difference) string { return fmt.Sprint(d.What, " ", d.Path, " ", d.Tier, " ", d.Start) }
	share := 1050.0 / float64(count*days*(1440+96))
	for i := range count {
		def := define(i)
		other := def
		if i%13 == 5 {
			other.Unit = "%"
			want[name(wire.Difference{What: Definition, Path: string(def.Path)})] = true
		}
		here, err := e.here.Define(t.Context(), []series.Definition{def})
		require.NoError(t, err)
		there, err := e.there.Define(t.Context(), []series.Definition{other})
		require.NoError(t, err)
		ours, theirs := engine.Batch{}, engine.Batch{}
		for _, tier := range def.Tiers.All() {
			a, b := rollup.NewBlock(def.Kind, 0), rollup.NewBlock(def.Kind, 0)
			for at := began; at < began+days*Day; at += int64(tier) {
				what := ""
				if random.Float64() < share {
					what = []string{wire.Missing, wire.Changed, wire.Fuller, wire.Extra}[random.IntN(4)]
					want[name(wire.Difference{What: what, Path: string(def.Path), Tier: int64(tier), Start: at})] = true
				}
				if what != wire.Extra {
					summary(def.Kind, at, 0, &a)
				}
				switch what {
				case wire.Missing:
				case wire.Fuller:
					summary(def.Kind, at, 1, &b)
				case wire.Changed:
					summary(def.Kind, at, 0, &b)
					b.Cols[rollup.ColMean][b.Len()-1] += 0.25
				default:
					summary(def.Kind, at, 0, &b)
				}
			}
			ours.Entries = append(ours.Entries, engine.Entry{Series: here[0], Tier: tier, Rows: a})
			theirs.Entries = append(theirs.Entries, engine.Entry{Series: there[0], Tier: tier, Rows: b})
		}
		for at := began; def.Sketch && at < began+Day; at += quarter {
			ours.Sketches = append(ours.Sketches, engine.Sketch{Series: here[0], Start: at, Data: []byte{1, 2, byte(i)}})
			if random.IntN(20) > 0 {
				theirs.Sketches = append(theirs.Sketches, engine.Sketch{Series: there[0], Start: at, Data: []byte{1, 2, byte(i)}})
			} else {
				want[name(wire.Difference{What: wire.Missing, Path: string(def.Path), Start: at})] = true
			}
		}
		require.NoError(t, e.here.Append(t.Context(), ours))
		require.NoError(t, e.there.Append(t.Context(), theirs))
	}
	for i := range 20 {
		note, err := e.here.Notes.Add(records.Note{At: time.Now(), About: "stony-beck", Text: fmt.Sprint("note ", i), Author: "warden", Written: time.Now()})
		require.NoError(t, err)
		if all, err := e.here.Notes.Since(0, 100); assert.NoError(t, err) && i%4 > 0 {
			require.NoError(t, e.there.Notes.Keep(all[len(all)-1:]))
		} else {
			want["record "+all[len(all)-1].UID] = true
		}
		_ = note
	}
	e.acknowledge()
	require.Greater(t, len(want), 1000)
	for range 2 {
		got, err := e.comparer.Run(t.Context(), began, began+days*Day)
		require.NoError(t, err)
		found := map[string]bool{}
		for _, d := range got.Differences {
			found[name(d)] = true
		}
		for _, d := range got.RecordsDiffer {
			found["record "+d.ID] = true
		}
		assert.Len(t, found, got.Different(), "each is named once")
		var wrong []string
		for one := range want {
			if !found[one] {
				wrong = append(wrong, "not found: "+one)
			}
		}
		for one := range found {
			if !want[one] {
				wrong = append(wrong, "not planted: "+one)
			}
		}
		assert.Empty(t, wrong[:min(len(wrong), 10)])
		assert.Zero(t, got.Waiting)
		require.NoError(t, e.here.Seal(t.Context(), engine.Sealing{})) // the same of what is sealed
		require.NoError(t, e.there.Seal(t.Context(), engine.Sealing{}))
		e.acknowledge()
	}
	t.Logf("seed %d: %d differences, %d bytes in two comparisons", seed, len(want), e.bytes)
}

// What is the same costs next to nothing to prove, what waits to be sent is no difference, and what is not selected is not missed.
func TestEqualEndsAreProvedForAFewBytes(t *testing.T) {
	e := newEnds(t)
	for i := range 50 {
		for _, st := range []*store.Store{e.here, e.there} {
			ids, err := st.Define(t.Context(), []series.Definition{define(i)})
			require.NoError(t, err)
			rows := rollup.NewBlock(define(i).Kind, 0)
			for at := began; at < began+2*Day; at += int64(time.Minute) {
				summary(define(i).Kind, at, 0, &rows)
			}
			require.NoError(t, st.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: ids[0], Tier: series.Minute, Rows: rows}}}))
		}
	}
	e.acknowledge()
	got, err := e.comparer.Run(t.Context(), began, began+10*Day)
	require.NoError(t, err)
	assert.EqualValues(t, 50*2*1440, got.Rows)
	assert.Zero(t, got.Different())
	assert.Less(t, e.bytes, 2000)
	assert.Equal(t, "stony-beck ↔ head-office, 2026-03-01 to 2026-03-10: 144000 summaries of 50 series and 0 records equal, 0 different",
		got.Text("stony-beck", "head-office"))

	one, ok := e.here.Find(define(0).Path)
	require.True(t, ok)
	rows := rollup.NewBlock(series.Gauge, 0)
	summary(series.Gauge, began+3*Day, 0, &rows)
	require.NoError(t, e.here.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: one.ID, Tier: series.Minute, Rows: rows}}}))
	got, err = e.comparer.Run(t.Context(), began, began+10*Day)
	require.NoError(t, err)
	assert.Zero(t, got.Different())
	assert.Equal(t, 1, got.Waiting)

	e.acknowledge()
	e.comparer.Sends = func(p series.Path) bool { return strings.HasPrefix(string(p), "stony-beck/raceway-1/") }
	e.comparer.Only = true
	got, err = e.comparer.Run(t.Context(), began, began+10*Day)
	require.NoError(t, err)
	assert.Zero(t, got.Different())
	assert.Equal(t, 7, got.Series)
}

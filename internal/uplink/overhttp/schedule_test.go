package overhttp

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/rounds"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/uplink"
	"nexocumula/internal/wire"
)

// A world is a gateway, a central and a link, to which random things happen: crashes at
// every point between send, store, answer and unmark, older copies restored at either
// end, seals, and all a network can do to a request. Every so often the faults end; then
// all that the gateway holds has to be at the central.
type world struct {
	t      *testing.T
	random *rand.Rand
	folder string
	files  int
	o      *office
	s      *site

	copies   struct{ gateway, central []string }
	restores bool    // whether the gateway may be restored from an older copy
	restored bool    // the gateway once was, from an older copy
	version  float64 // of the newest summary, which stands in its mean
}

type window struct {
	path  series.Path
	start int64
}

const (
	worlds    = 20
	schedules = 50 // of each
	steps     = 8  // of each
)

func TestEveryScheduleEndsInEquality(t *testing.T) {
	most := rounds.Of(worlds)
	for part := range 4 {
		t.Run(fmt.Sprint(part), func(t *testing.T) {
			t.Parallel()
			for i := part; i < most && !t.Failed(); i += 4 {
				synctest.Test(t, func(t *testing.T) { schedulesOf(t, uint64(i)) })
			}
		})
	}
}

// schedulesOf runs the schedules of one world.
func schedulesOf(t *testing.T, seed uint64) {
	w := &world{t: t, random: rand.New(rand.NewPCG(seed, 77)), folder: memory(t), restores: seed%2 == 1}
	w.o = newOffice(t, w.file())
	w.s = newSite(t, w.file(), w.o)
	for k := range schedules {
		for range steps {
			w.step()
		}
		w.settle(fmt.Sprintf("world %d, schedule %d", seed, k))
	}
	require.NoError(t, w.s.store.Close())
	w.o.stop()
}

func (w *world) file() string {
	w.files++
	return filepath.Join(w.folder, fmt.Sprintf("%d.db", w.files))
}

func (w *world) step() {
	switch w.random.IntN(16) {
	case 0, 1, 2, 3:
		w.write()
	case 4:
		require.NoError(w.t, w.s.store.Seal(context.Background(), engine.Sealing{}))
	case 5:
		require.NoError(w.t, w.o.store.Seal(context.Background(), engine.Sealing{}))
	case 6: // the gateway crashes
		w.gateway(w.copy(w.s.store))
	case 7: // the central does
		w.central(w.copy(w.o.store))
	case 8:
		w.copies.gateway = append(w.copies.gateway, w.copy(w.s.store))
	case 9:
		w.copies.central = append(w.copies.central, w.copy(w.o.store))
	case 10: // older copies come back, rarely
		if n := len(w.copies.gateway); n > 0 && w.restores && w.random.IntN(3) == 0 {
			w.restored = true
			w.gateway(w.again(w.copies.gateway[w.random.IntN(n)]))
		} else if n := len(w.copies.central); n > 0 && w.random.IntN(2) == 0 {
			w.central(w.again(w.copies.central[w.random.IntN(n)]))
		}
	case 11:
		time.Sleep(time.Duration(w.random.IntN(90)) * time.Second)
		require.NoError(w.t, w.s.sender.Outbox().Save())
	default:
		w.send()
	}
}

// write makes new summaries, or revises old ones: late readings add to a window, and
// corrections leave their number as it is.
func (w *world) write() {
	def := series.Definition{
		Path:     series.Path(fmt.Sprintf("long-mere/buoy-%d/oxygen", w.random.IntN(3))),
		Kind:     series.Gauge,
		FreshFor: time.Minute,
	}
	ids, err := w.s.store.Define(context.Background(), []series.Definition{def})
	require.NoError(w.t, err)
	rows := rollup.NewBlock(series.Gauge, 0)
	start := int64(w.random.IntN(60)) * int64(time.Minute)
	for range 1 + w.random.IntN(4) {
		have, err := w.s.store.Read(context.Background(), ids[0], series.Minute, start, start+1)
		require.NoError(w.t, err)
		count := float64(1 + w.random.IntN(3))
		if have.Len() > 0 {
			count = have.Cols[rollup.ColCount][0] + float64(w.random.IntN(2))
		}
		w.version++
		sum := rollup.Summary{
			Count:   count,
			Mean:    w.version,
			Min:     w.version,
			Max:     w.version,
			First:   w.version,
			Last:    w.version,
			MinAt:   start,
			MaxAt:   start,
			FirstAt: start,
			LastAt:  start,
		}
		sum.AddTo(&rows, start, def.Kind)
		start += int64(time.Minute) * int64(1+w.random.IntN(2)*w.random.IntN(70))
	}
	require.NoError(w.t,
		w.s.store.Append(context.Background(),
			engine.Batch{Entries: []engine.Entry{{Series: ids[0], Tier: series.Minute, Rows: rows}}}))
}

// mishaps are what a link does to a request, half of the time nothing.
var mishaps = []string{"", "", "", "", "", "", "", "drop", "lose answer", "fail", "black hole", "half open", "twice", "kept"}

// send sends a batch, small ones to have many, over a link that may do anything. When the
// answer is lost, either end may crash before it could make anything of it.
func (w *world) send() {
	w.s.carrier.sizer.bytes = 12 * float64(1+w.random.IntN(30))
	how := mishaps[w.random.IntN(len(mishaps))]
	w.o.spoil = func(int) string { return how }
	var gateway, central string
	if w.random.IntN(4) == 0 { // as it is on disk while the request is under way
		gateway, central = w.copy(w.s.store), w.copy(w.o.store)
	}
	_, _ = w.s.sender.SendOnce(w.t.Context())
	w.o.spoil = func(int) string { return "" }
	if gateway == "" {
		return
	}
	switch w.random.IntN(3) {
	case 0:
		w.gateway(gateway) // it never learned of the answer
	case 1:
		w.central(central) // it was not on disk, or the copy is older
	case 2:
		w.gateway(gateway)
		w.central(central)
	}
}

func (w *world) copy(st *store.Store) string {
	folder := filepath.Join(w.folder, filepath.Base(w.file()))
	require.NoError(w.t, os.Mkdir(folder, 0o700))
	return copyStore(w.t, st, folder)
}

// again copies a copy, as it may be restored more than once.
func (w *world) again(file string) string {
	folder := filepath.Join(w.folder, filepath.Base(w.file()))
	require.NoError(w.t, os.Mkdir(folder, 0o700))
	return copyFiles(w.t, file, folder)
}

func (w *world) gateway(file string) {
	require.NoError(w.t, w.s.store.Close())
	w.s = newSite(w.t, file, w.o)
}

func (w *world) central(file string) {
	w.o.stop()
	w.o.open(file)
}

// settle ends the faults and compares both ends.
func (w *world) settle(what string) {
	for i := 0; ; i++ {
		require.Less(w.t, i, 10_000, "%s: it does not end", what)
		_, err := w.s.sender.SendOnce(w.t.Context())
		if later(err) {
			continue
		}
		require.NoError(w.t, err, what)
		if w.s.waiting() == 0 {
			break
		}
	}
	here, there := held(w.t, w.s.store), held(w.t, w.o.store)
	for at, mine := range here {
		theirs, ok := there[at]
		require.True(w.t, ok, "%s: %v never arrived", what, at)
		require.GreaterOrEqual(w.t, theirs[0], mine[0], "%s: %v counts fewer readings there", what, at)
		if theirs[0] == mine[0] { // a gateway restored from an older copy may have lost a correction that was sent
			require.GreaterOrEqual(w.t, theirs[1], mine[1], "%s: %v is older there", what, at)
		}
		if !w.restored {
			require.Equal(w.t, mine, theirs, "%s: %v differs", what, at)
		}
	}
	require.Empty(w.t, w.s.sender.Outbox().Refused())
	if w.random.IntN(6) == 0 {
		w.copies.gateway, w.copies.central = nil, nil
	}
}

// later waits where an error says that it will go on by itself.
func later(err error) bool {
	if soon, ok := errors.AsType[*uplink.TooOftenError](err); ok {
		time.Sleep(time.Until(soon.Next))
		return true
	}
	// The first request of a process that is over arrived after those of the next: they seem to be two, until one of them
	// was silent for long.
	if no, ok := errors.AsType[*refusedError](err); ok && no.Code == wire.CodeTwin {
		time.Sleep(10 * time.Minute)
		return true
	}
	return false
}

// held is count and mean of every summary of a store.
func held(t *testing.T, st *store.Store) map[window][2]float64 {
	out := map[window][2]float64{}
	everything, err := series.ParseSelector("#")
	require.NoError(t, err)
	for _, s := range st.List(everything) {
		rows, err := st.Read(t.Context(), s.ID, series.Minute, 0, 1<<62)
		require.NoError(t, err)
		for i, start := range rows.Times {
			out[window{s.Path, start}] = [2]float64{rows.Cols[rollup.ColCount][i], rows.Cols[rollup.ColMean][i]}
		}
	}
	return out
}

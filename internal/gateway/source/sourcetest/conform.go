package sourcetest

import (
	"log/slog"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/store/sqlite"
)

// Case is a kind of source as the conformance suite tries it.
type Case struct {
	Kind config.SourceKind
	File string // the keys of the source below its kind, as YAML; the site is long-mere
	Path series.Path

	// Bring has something arrive at the source that is one reading of Path. It does not wait for
	// an acknowledgement.
	Bring func(t *testing.T, to source.Source, value float64)
	// Spoil has something arrive that cannot be read.
	Spoil func(t *testing.T, to source.Source)
}

const underTest = "under-test"

// Conform checks what all kinds of sources have in common: what arrives is stored under its
// path and counted, and acknowledged only when it is on disk; what cannot be read is kept
// with its place; and a source ends when it is told to, leaving nothing behind.
func Conform(t *testing.T, c Case) {
	settings, err := config.Parse("conform.yaml",
		[]byte("data: d\ngateway:\n  site: long-mere\n  sources:\n    - name: "+underTest+"\n      "+c.Kind.Key+":\n"+c.File),
		config.Kinds{Sources: []config.SourceKind{c.Kind}})
	require.NoError(t, err)
	of := settings.Gateway.Sources[0].Settings.(source.Settings)
	idle := of.Open(underTest, nil, slog.New(slog.DiscardHandler)).Tally()
	assert.Equal(t, [2]string{underTest, c.Kind.Key}, [2]string{idle.Name, idle.Form},
		"before it runs, and without a pipeline")
	assert.False(t, idle.Up)

	b := New(t)
	before := runtime.NumGoroutine()
	src := of.Open(underTest, b.Pipe, slog.New(slog.DiscardHandler))
	end := b.Begin(src.Run)
	b.Eventually("it is up", func() bool { return src.Tally().Up })

	c.Bring(t, src, 4)
	b.Eventually("what was brought is stored", func() bool { return b.last(c.Path) == 4 })
	b.Eventually("it is acknowledged", func() bool { return src.Tally().Acked > 0 })
	tally := src.Tally()
	assert.NotZero(t, tally.Readings)
	assert.NotZero(t, tally.Messages)
	assert.False(t, tally.LastAt.IsZero())
	from, place := b.Pipe.From(c.Path)
	assert.Equal(t, underTest, from)
	assert.NotEmpty(t, place)

	c.Spoil(t, src)
	b.Eventually("what cannot be read is told", func() bool { return src.Tally().Rejects+src.Tally().Errors > 0 })
	if src.Tally().Rejects > 0 {
		b.Eventually("it is kept", func() bool { return len(b.Rejects()) > 0 })
		kept := b.Rejects()[0]
		assert.Equal(t, underTest, kept.Source)
		assert.NotEmpty(t, kept.Place)
		assert.NotEmpty(t, kept.Reason)
		assert.NotEmpty(t, kept.Raw)
		if again, ok := src.(source.Rereader); ok {
			_, rejects := again.Reread(kept.Place, kept.Raw, kept.Time)
			assert.NotEmpty(t, rejects, "what could not be read cannot be read again")
		}
	} else {
		assert.NotEmpty(t, src.Tally().Faults)
	}

	restore := b.refuseWrites()
	c.Bring(t, src, 5)
	b.Eventually("the trouble is seen", func() bool { return b.Pipe.Trouble() != "" })
	acked := src.Tally().Acked
	time.Sleep(50 * time.Millisecond) // long enough for an acknowledgement that does not wait for the disk
	assert.Equal(t, acked, src.Tally().Acked, "nothing is acknowledged that is not on disk")
	restore()
	b.Eventually("what waited is stored", func() bool { return b.last(c.Path) == 5 })
	b.Eventually("and acknowledged", func() bool { return src.Tally().Acked > acked })

	end()
	assert.False(t, src.Tally().Up)
	for limit := time.Now().Add(time.Minute); runtime.NumGoroutine() > before; time.Sleep(5 * time.Millisecond) {
		require.True(t, time.Now().Before(limit), "%d goroutines are left where there were %d", runtime.NumGoroutine(),
			before)
	}
}

// last returns the newest value of a series; 0 without one.
func (b *Bench) last(path series.Path) float64 {
	found, ok := b.Store.Find(path)
	if !ok {
		return 0
	}
	rows, err := b.Store.Read(b.t.Context(), found.ID, series.Readings, 0, 1<<62)
	require.NoError(b.t, err)
	if rows.Len() == 0 {
		return 0
	}
	return rows.Cols[0][rows.Len()-1]
}

// refuseWrites makes the store fail, as a full disk would, until restore is called.
func (b *Bench) refuseWrites() (restore func()) {
	db, err := sqlite.Records(b.Store.Path(), slog.New(slog.DiscardHandler))
	require.NoError(b.t, err)
	require.NoError(b.t,
		db.Exec("CREATE TRIGGER full BEFORE INSERT ON journal BEGIN SELECT RAISE(ABORT, 'disk is full'); END").Error)
	return func() {
		require.NoError(b.t, db.Exec("DROP TRIGGER full").Error)
		pool, err := db.DB()
		require.NoError(b.t, err)
		require.NoError(b.t, pool.Close())
	}
}

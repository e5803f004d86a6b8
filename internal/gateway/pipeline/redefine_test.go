package pipeline

import (
	"context"
	"log/slog"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
)

// kept is a pipeline on a store that goes through restarts; nothing runs in it.
type kept struct {
	t     *testing.T
	file  string
	store *store.Store
	pipe  *Pipeline
}

func (k *kept) restart(settings config.Gateway) {
	k.t.Helper()
	if k.store != nil {
		<-k.pipe.sealNowHeld()
		require.NoError(k.t, k.store.Close())
	} else {
		k.t.Cleanup(func() { k.store.Close() })
	}
	var err error
	k.store, err = store.Open(k.file, slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(k.t, err)
	k.pipe, err = New(k.store, settings, slog.New(slog.DiscardHandler))
	require.NoError(k.t, err)
}

// sealNowHeld is a seal, with the windows that are still open.
func (p *Pipeline) sealNowHeld() <-chan struct{} {
	p.sealer.sealing.Lock()
	return p.sealer.sealNow(context.Background())
}

// give takes one reading in, and returns what counts of it, derived readings included.
func (k *kept) give(path series.Path, at time.Time, value float64, labels series.Labels) []screened {
	k.t.Helper()
	d := &Delivery{Readings: []reading.Reading{{
		Path:   path,
		Time:   at.UnixNano(),
		Value:  value,
		Labels: labels,
		From:   &reading.Origin{Source: "own", Place: "p"},
	}}}
	require.NoError(k.t, k.pipe.screen(d))
	k.pipe.committer.commit(k.t.Context(), []*Delivery{d})
	return d.screened
}

func (k *kept) definition(path series.Path) series.Definition {
	k.t.Helper()
	s, ok := k.store.Find(path)
	require.True(k.t, ok, path)
	return s.Definition
}

func parsed(t *testing.T, series string) config.Gateway {
	t.Helper()
	settings, err := config.Parse("f.yaml", []byte("data: ./d\ngateway:\n  site: long-mere\n  series:\n"+series),
		config.Kinds{})
	require.NoError(t, err)
	return *settings.Gateway
}

func TestSeriesWithoutReadingsGetTheDefinitionOfNewRules(t *testing.T) {
	virtual(t, func(t *testing.T) {
		const path = "long-mere/buoy-1/oxygen"
		rule := `    - { select: "#", unit: mg/l, fresh_for: FRESH, labels: { depth: DEPTH }, normal: { inner: [6, HIGH] }, screens: [{ name: doubt, range: [0, 15], then: uncertain }] }` + "\n"
		with := func(fresh, depth, high string) config.Gateway {
			return parsed(t, strings.NewReplacer("FRESH", fresh, "DEPTH", depth, "HIGH", high).Replace(rule))
		}
		k := &kept{t: t, file: filepath.Join(t.TempDir(), "s.db")}
		k.restart(with("30s", "3m", "9"))
		k.give(path, time.Now().Add(-time.Hour), 7, "")
		k.give(path, time.Now().Add(-time.Hour+time.Second), 7, "maker=alder")
		check := func(fresh time.Duration, labels series.Labels, normal series.Normal) {
			t.Helper()
			k.pipe.takeOver(t.Context())
			def := k.definition(path)
			assert.Equal(t, []any{fresh, labels, normal}, []any{def.FreshFor, def.Labels, def.Normal})
			assert.Equal(t, fresh, k.definition(path+"/quality").FreshFor)
		}
		check(30*time.Second, "depth=3m,maker=alder", k.definition(path).Normal)
		next := with("2m", "6m", "10")
		k.pipe.Use(next.Rules, next.Keep)
		check(2*time.Minute, "depth=6m,maker=alder", "inner=6..10")
		k.restart(with("3m", "1m", "11"))
		check(3*time.Minute, "depth=1m,maker=alder", "inner=6..11")
		k.give(path, time.Now().Add(-time.Minute), 7, "") // its messages have no labels any more
		check(3*time.Minute, "depth=1m", "inner=6..11")
	})
}

func TestWhatAnotherUnitMeasuredIsNotCompared(t *testing.T) {
	virtual(t, func(t *testing.T) {
		const path = "long-mere/silo/level"
		in := func(unit string) config.Gateway {
			return parsed(t, `    - { select: "#", unit: "`+unit+`", screens: [{ change: 1, per: 1m }] }`+"\n")
		}
		k := &kept{t: t, file: filepath.Join(t.TempDir(), "s.db")}
		k.restart(in("m"))
		at := time.Now().Add(-time.Hour)
		require.Len(t, k.give(path, at, 2, ""), 1)
		k.restart(in("cm"))
		k.pipe.takeOver(t.Context())
		assert.Equal(t, "cm", k.definition(path).Unit)
		assert.Len(t, k.give(path, at.Add(time.Second), 200, ""), 1, "the store's 2 are metres")
		assert.Empty(t, k.give(path, at.Add(2*time.Second), 210, ""))
	})
}

func TestDerivedSeriesGoOnAfterARestart(t *testing.T) {
	virtual(t, func(t *testing.T) {
		k := &kept{t: t, file: filepath.Join(t.TempDir(), "s.db")}
		settings := parsed(t, `    - { select: +/+/in, fresh_for: 1m }
    - { select: +/+/out, fresh_for: 1m }
    - { select: +/+/stays, fresh_for: 1m, derive: { formula: "a - b", from: { a: in, b: out } } }
`)
		k.restart(settings)
		at := time.Now().Add(-time.Hour)
		k.give("long-mere/weir/in", at, 10, "")
		require.Len(t, k.give("long-mere/weir/out", at.Add(time.Second), 4, ""), 2)
		k.restart(settings)
		made := k.give("long-mere/weir/in", at.Add(10*time.Second), 11, "")
		require.Len(t, made, 2, "the other input speaks for a minute, whether the gateway restarts or not")
		assert.Equal(t, 7.0, made[1].value)
		k.restart(settings)
		assert.Len(t, k.give("long-mere/weir/out", at.Add(2*time.Minute), 5, ""), 1,
			"the other input does not speak any more")
	})
}

func TestAStuckProbeIsFoundAlthoughTheGatewayRestarts(t *testing.T) {
	virtual(t, func(t *testing.T) {
		k := &kept{t: t, file: filepath.Join(t.TempDir(), "s.db")}
		settings := parsed(t, `    - { select: "#", screens: [{ stuck_for: 1h }] }`+"\n")
		k.restart(settings)
		at := time.Now().Add(-4 * time.Hour)
		k.give("long-mere/a/b", at, 6, "")
		for i := range 12 { // every ten minutes, with a restart after each
			counts := len(k.give("long-mere/a/b", at.Add(time.Duration(i+1)*10*time.Minute), 7, "")) == 1
			assert.Equal(t, i <= 6, counts, "after %d minutes", 10*i)
			k.restart(settings)
		}
		assert.Len(t, k.give("long-mere/a/b", at.Add(3*time.Hour), 8, ""), 1, "it moves again")
	})
}

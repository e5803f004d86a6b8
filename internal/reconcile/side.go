package reconcile

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/cespare/xxhash/v2"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/digest"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/wire"
)

// Day is what digests are of.
const Day = int64(24 * time.Hour)

// Store is what both ends ask of a store.
type Store interface {
	Get(id uint32) (engine.Series, bool)
	Find(path series.Path) (engine.Series, bool)
	List(series.Selector) []engine.Series
	Scan(ctx context.Context, id uint32, w engine.Wanted, sink engine.Sink) error
	Sketches(ctx context.Context, id uint32, from, to int64, most int) ([]engine.Sketch, error)
}

// dayOf returns the begin of a day in UTC.
func dayOf(t int64) int64 {
	if t < 0 {
		return -((-t + Day - 1) / Day * Day)
	}
	return t / Day * Day
}

// within returns the part of a tier's scope that is of a day.
func within(scopes []wire.Scope, tier, day int64) wire.Scope {
	i := slices.IndexFunc(scopes, func(s wire.Scope) bool { return s.Tier == tier })
	if i < 0 {
		return wire.Scope{Tier: tier}
	}
	return wire.Scope{Tier: tier, From: max(day, scopes[i].From), To: min(day+Day, scopes[i].To)}
}

// row is one row that was summed up.
type row struct {
	start int64
	hash  uint64
	count float64
}

// eachRow visits the rows of a scope of a series, in order of time.
func eachRow(ctx context.Context, st Store, s *engine.Series, scope wire.Scope, visit func(row)) error {
	if scope.Tier == 0 {
		return eachSketch(ctx, st, s, scope, visit)
	}
	tier := series.Tier(scope.Tier)
	if !slices.Contains(s.Tiers.All(), tier) {
		return nil
	}
	want := engine.Wanted{Tier: tier, From: scope.From, To: scope.To, Need: rollup.NeedAll}
	return st.Scan(ctx, s.ID, want, &hashing{tier: tier, visit: visit})
}

const sketchesAtOnce = 500

func eachSketch(ctx context.Context, st Store, s *engine.Series, scope wire.Scope, visit func(row)) error {
	var h digest.Hasher
	for from := scope.From; s.Sketch && from < scope.To; {
		some, err := st.Sketches(ctx, s.ID, from, scope.To, sketchesAtOnce)
		if err != nil {
			return err
		}
		for _, one := range some {
			visit(row{start: one.Start, hash: h.Sketch(one.Start, one.Data)})
			from = one.Start + 1
		}
		if len(some) < sketchesAtOnce {
			return nil
		}
	}
	return nil
}

// hashing is a sink that hashes each row.
type hashing struct {
	digest.Hasher
	tier  series.Tier
	visit func(row)
}

func (h *hashing) Rows(b column.Block, _ int64) error {
	for i, t := range b.Times {
		h.visit(row{t, h.Row(h.tier, b, i), b.Cols[rollup.ColCount][i]})
	}
	return nil
}

// Whole is never called because Cut is nil.
func (h *hashing) Whole(int64, int64, rollup.Summary) error { return nil }

// daysOf sums a scope of a series up day by day.
func daysOf(ctx context.Context, st Store, s *engine.Series, scope wire.Scope) (out []wire.DayDigest, err error) {
	err = eachRow(ctx, st, s, scope, func(r row) {
		day := dayOf(r.start)
		if n := len(out); n == 0 || out[n-1].Day != day {
			out = append(out, wire.DayDigest{Day: day})
		}
		out[len(out)-1].Rows.AddHash(r.hash)
	})
	return out, err
}

// seriesDigest sums a series up.
func seriesDigest(ctx context.Context, st Store, s *engine.Series, scopes []wire.Scope) (out digest.Digest, err error) {
	for _, scope := range scopes {
		if err := eachRow(ctx, st, s, scope, func(r row) { out.AddHash(r.hash) }); err != nil {
			return out, err
		}
	}
	return out, nil
}

// definitionHash sums a definition up, as far as a central that gets these scopes knows it.
func definitionHash(def series.Definition, scopes []wire.Scope) uint64 {
	var tiers []series.Tier
	for _, scope := range scopes {
		if scope.Tier != 0 {
			tiers = append(tiers, series.Tier(scope.Tier))
		}
	}
	return xxhash.Sum64String(wire.DefinitionText(def, tiers))
}

// summed is a series and what it sums up to.
type summed struct {
	engine.Series
	wire.SeriesDigest
}

// sumAll sums up all series of a list that have rows, in order of their paths.
func sumAll(ctx context.Context, st Store, all []engine.Series, scopes []wire.Scope) (out []summed, err error) {
	slices.SortFunc(all, func(a, b engine.Series) int { return strings.Compare(string(a.Path), string(b.Path)) })
	for i := range all {
		rows, err := seriesDigest(ctx, st, &all[i], scopes)
		if err != nil {
			return nil, err
		}
		if rows.Rows == 0 {
			continue
		}
		out = append(out, summed{all[i], wire.SeriesDigest{
			Path: string(all[i].Path), Definition: definitionHash(all[i].Definition, scopes), Rows: rows,
		}})
	}
	return out, nil
}

// whole sums up all series, with their definitions.
func whole(all []summed) (out digest.Digest) {
	var h digest.Hasher
	for _, s := range all {
		one := s.Rows
		one.Sum ^= s.SeriesDigest.Definition
		out.Rows += one.Rows
		out.Sum += h.Named(s.SeriesDigest.Path, one)
	}
	return out
}

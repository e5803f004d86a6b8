package engine

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"

	"gorm.io/gorm"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/store/sqlite"
)

// orphan is a series whose row of the catalogue was set aside while its chunks stayed.
type orphan struct {
	record uint64 // id in the table of damaged rows
	id     uint32 // its chunks carry
	kind   series.Kind
}

var orphanRow = regexp.MustCompile(`^\{ID:(\d+) Path:(\S+) Kind:(\S+) `)

// loadOrphans reads which series were set aside. What their row says besides id, path and kind does
// not matter: whoever defines the series again says it.
func (e *Engine) loadOrphans() error {
	rows, err := e.file.SetAsideOf("series")
	if err != nil {
		return fmt.Errorf("reading which series were set aside: %w", err)
	}
	found := map[series.Path]orphan{}
	for _, r := range rows {
		m := orphanRow.FindSubmatch(r.Raw)
		if m == nil {
			continue
		}
		id, err := strconv.ParseUint(string(m[1]), 10, 32)
		if err != nil || uint32(id) != r.Series {
			continue
		}
		found[series.Path(m[2])] = orphan{r.ID, r.Series, series.Kind(m[3])}
	}
	e.alter(func(m *memory) { m.orphans = found })
	return nil
}

// orphanOf returns the orphan that a definition brings back. Its id is free: ids are never used again.
func (m *memory) orphanOf(path series.Path, kind series.Kind) (orphan, bool) {
	o, ok := m.orphans[path]
	return o, ok && o.kind == kind && m.catalogue.get(o.id) == nil
}

// comeBack ends the setting aside of series that are in the catalogue again, in the transaction that puts
// them there.
func comeBack(tx *gorm.DB, back []orphan) error {
	records := make([]uint64, len(back))
	for i, o := range back {
		records[i] = o.record
	}
	if err := sqlite.Mended(tx, records); err != nil {
		return fmt.Errorf("taking a series back into the catalogue: %w", err)
	}
	return nil
}

// recall finds the first and the latest row of a series that came back, which its row of the catalogue said.
func (e *Engine) recall(ctx context.Context, id uint32) error {
	known, _ := e.Get(id)
	var first struct {
		At        int64
		Collected bool
	}
	err := e.file.Reader().Model(&sqlite.Chunk{}).Select("coalesce(min(first_at), 0) AS at, coalesce(min(tier), 1) = 0 AS collected").Where("series = ?",
		id).Scan(&first).Error
	if err != nil {
		return fmt.Errorf("reading when %s began: %w", known.Path, err)
	}
	for _, tier := range append([]series.Tier{series.Readings}, known.Tiers.All()...) {
		at, value, ok, err := e.LastBefore(ctx, id, tier, math.MaxInt64)
		if err != nil {
			return fmt.Errorf("reading the latest value of %s: %w", known.Path, err)
		}
		if ok && at >= known.LastTime {
			known.LastTime, known.LastValue = at, value
		}
	}
	return e.file.Write(func(w sqlite.Writer) error {
		e.alter(func(m *memory) {
			now := m.catalogue.get(id)
			now.Collected = now.Collected || first.Collected
			if first.At != 0 && (now.FirstSeen == 0 || first.At < now.FirstSeen) {
				now.FirstSeen = first.At
			}
			if known.LastTime > now.LastTime {
				now.LastTime, now.LastValue = known.LastTime, known.LastValue
			}
			if now.Thinning.Method != 0 {
				now.ThinnedTo = max(now.ThinnedTo, now.LastTime+1)
			}
			now.SummarisedTo = max(now.SummarisedTo, now.summarisedAtMost(e.judge.Newest().UnixNano()))
		})
		return e.saveLatest(w.DB(), map[uint32]bool{id: true}, nil)
	})
}

// reattach gives the rows of orphans whose series was meanwhile defined with a new id to that series, and
// brings back their place in the health report. Where both have a row of the same time, the new one stays.
func (e *Engine) reattach(ctx context.Context) error {
	var orphans map[series.Path]orphan
	e.look(func(m *memory) { orphans = maps.Clone(m.orphans) })
	for path, o := range orphans {
		known, ok := e.Find(path)
		if !ok || known.Kind != o.kind || known.ID == o.id {
			continue
		}
		if err := e.takeOver(ctx, o.id, known); err != nil {
			return fmt.Errorf("giving the earlier rows of %s back to it: %w", path, err)
		}
		err := e.file.Write(func(w sqlite.Writer) error {
			return w.Transaction(func(tx *gorm.DB) error {
				for _, table := range []any{&sqlite.Chunk{}, &sqlite.Patch{}} {
					if err := tx.Where("series = ?", o.id).Delete(table).Error; err != nil {
						return err
					}
				}
				return comeBack(tx, []orphan{o})
			})
		})
		if err != nil {
			return fmt.Errorf("giving the earlier rows of %s back to it: %w", path, err)
		}
		e.file.CountMended(1)
		e.alter(func(m *memory) { delete(m.orphans, path) })
		event.OrphansFound.To(e.log, "series", path)
	}
	return nil
}

// takeOver appends the rows of the id from to a series, chunk by chunk.
func (e *Engine) takeOver(ctx context.Context, from uint32, to Series) error {
	var chunks []sqlite.Chunk
	if err := e.file.Reader().Where("series = ?", from).Order("tier, first_at").Find(&chunks).Error; err != nil {
		return err
	}
	for _, c := range chunks {
		rows, err := rowsOf(&c, allParts, rollup.NeedAll, nil)
		if err = cmp.Or(check(&c), err); err != nil {
			if err := e.file.SetAside([]sqlite.Damaged{c.Damage(err)}); err != nil {
				return err
			}
			continue
		}
		at := seriesTier{from, series.Tier(c.Tier)}
		late, broken, err := e.patchedBetween(e.file.Reader(), at, c.FirstAt, c.LastAt+1, rollup.NeedAll)
		if err == nil {
			err = e.file.SetAside(broken)
		}
		if err == nil {
			err = e.appendMissing(ctx, to, at.tier, column.Merge(rows, late))
		}
		if err != nil {
			return err
		}
	}
	return e.takeOverPatches(ctx, from, to)
}

// takeOverPatches appends the rows of patches that no chunk is of the time of, too.
func (e *Engine) takeOverPatches(ctx context.Context, from uint32, to Series) error {
	var patched []seriesTier
	e.look(func(m *memory) {
		for at := range m.patched {
			if at.series == from {
				patched = append(patched, at)
			}
		}
	})
	for _, at := range patched {
		late, broken, err := e.patchedBetween(e.file.Reader(), at, math.MinInt64, math.MaxInt64, rollup.NeedAll)
		if err == nil {
			err = e.file.SetAside(broken)
		}
		if err == nil {
			err = e.appendMissing(ctx, to, at.tier, late)
		}
		if err != nil {
			return err
		}
		e.alter(func(m *memory) { delete(m.patched, at) })
	}
	return nil
}

// appendMissing appends those of the rows that a series does not have.
func (e *Engine) appendMissing(ctx context.Context, to Series, tier series.Tier, rows column.Block) error {
	if rows.Len() == 0 {
		return nil
	}
	have, err := e.Read(ctx, to.ID, tier, rows.Times[0], rows.Times[rows.Len()-1]+1)
	if err != nil {
		return err
	}
	if rows = column.Merge(rows, have); rows.Len() == have.Len() {
		return nil
	}
	if err := e.Append(ctx, Batch{Entries: []Entry{{Series: to.ID, Tier: tier, Rows: rows}}}); err != nil {
		return err
	}
	if e.SealDue() {
		return e.Seal(ctx, Sealing{})
	}
	return nil
}

// mostNamed is how many series that were set aside are named one by one.
const mostNamed = 20

// SetAside says of which series the definition was damaged and set aside.
func (e *Engine) SetAside() (out []string) {
	var paths []series.Path
	e.look(func(m *memory) { paths = slices.Sorted(maps.Keys(m.orphans)) })
	for i, path := range paths {
		if i == mostNamed {
			return append(out, fmt.Sprintf("and of %d more series", len(paths)-mostNamed))
		}
		out = append(out,
			fmt.Sprintf("the definition of %s did not match its checksum and is set aside; its rows are kept, and come back when the series is defined again, at a gateway with its next reading",
				path))
	}
	return out
}

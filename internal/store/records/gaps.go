package records

import (
	"crypto/rand"
	"fmt"
	"math"
	"slices"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/core/gap"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// Gap is a time for which something of a series is not here.
type Gap struct {
	ID     uint64
	Series series.Path
	From   time.Time
	To     time.Time // zero: it goes on
	Of     string    // "readings", or a tier such as 10s; empty: all
	Cause  gap.Cause
	Detail string // in words
	Author string // who removed it
}

// GapVersion is a gap as it travels from store to store: the one with the higher version counts.
type GapVersion struct {
	Gap
	UID     string // the same in all stores
	Version uint64 // from 1 on
	Removed bool   // what was missing came after all
	Change  uint64 // number of the last change of gaps in this store
}

type gapRow struct {
	ID      uint64 `gorm:"primaryKey"`
	Series  string `gorm:"index:gaps_series"`
	Began   int64  `gorm:"index:gaps_series"`
	Ended   int64
	Of      string `gorm:"column:what"`
	Cause   string
	Detail  string
	Author  string
	UID     string `gorm:"column:uid;uniqueIndex:gaps_uid"`
	Version uint64
	Removed bool
	Change  uint64 `gorm:"index:gaps_change"`
	Applied bool   // of what a person removed: it is not in this store any more
}

func (gapRow) TableName() string { return "gaps" }

func (r gapRow) gap() Gap {
	return Gap{
		r.ID, series.Path(r.Series), timeOf(r.Began), timeOf(r.Ended), r.Of, gap.Cause(r.Cause), r.Detail, r.Author,
	}
}

func (r *gapRow) take(g Gap) {
	r.Series, r.Began, r.Ended, r.Of = string(g.Series), nanosOf(g.From), nanosOf(g.To), g.Of
	r.Cause, r.Detail, r.Author = string(g.Cause), g.Detail, g.Author
}

const (
	keepGaps        = 10 * 365 * 24 * time.Hour
	keepRemovedGaps = 400 * 24 * time.Hour
	mostGaps        = 5000 // of a series; the oldest go first
)

// Gaps are the holes in the series.
type Gaps struct {
	file    *sqlite.File
	changed *announcement
}

// GapChange is a gap that is new, or one with an ID as it is now.
type GapChange struct {
	Gap
	Gone bool // what was missing came after all
}

// Change decides about gaps in the transaction that the change becomes part of: decide gets those of series that end
// after a time, and returns what changes. Announce follows.
func (g Gaps) Change(of []series.Path, after time.Time, decide func(known map[series.Path][]Gap) ([]GapChange, error)) sqlite.Change {
	return func(tx *gorm.DB) error {
		found, err := between(tx, after, time.Unix(0, math.MaxInt64), of)
		if err != nil {
			return err
		}
		known := map[series.Path][]Gap{}
		for _, one := range found {
			known[one.Series] = append(known[one.Series], one)
		}
		changes, err := decide(known)
		if err != nil {
			return err
		}
		return put(tx, changes)
	}
}

// put writes gaps that are new, and those that changed.
func put(tx *gorm.DB, changes []GapChange) error {
	if len(changes) == 0 {
		return nil
	}
	change, err := lastGap(tx)
	if err != nil {
		return err
	}
	var made []gapRow
	for _, c := range changes {
		var row gapRow
		if c.ID != 0 {
			if err := tx.Where("id = ? AND NOT removed", c.ID).Limit(1).Find(&row).Error; err != nil {
				return fmt.Errorf("reading gap %d: %w", c.ID, err)
			}
			if row.ID == 0 {
				continue
			}
		}
		change++
		row.take(c.Gap)
		row.Change, row.Removed = change, c.Gone
		if row.Version++; row.ID == 0 {
			row.UID = rand.Text()
			made = append(made, row)
			continue
		}
		if err := tx.Save(&row).Error; err != nil {
			return fmt.Errorf("writing gap %d: %w", c.ID, err)
		}
	}
	if len(made) == 0 {
		return nil
	}
	if err := tx.CreateInBatches(made, 500).Error; err != nil {
		return fmt.Errorf("writing gaps: %w", err)
	}
	return nil
}

func lastGap(tx *gorm.DB) (change uint64, err error) {
	if err = tx.Model(&gapRow{}).Select("coalesce(max(change), 0)").Scan(&change).Error; err != nil {
		err = fmt.Errorf("reading the number of the last gap: %w", err)
	}
	return change, err
}

// near is how far apart two parts of a series may be that are missing for the same reason, to be one gap.
const near = 24 * time.Hour

// Extend records that more is missing: the latest gap of the same series, of the same and for the same reason, becomes
// longer if it ends about where the new one begins; else there is another.
func (g Gaps) Extend(more Gap) sqlite.Change {
	return func(tx *gorm.DB) error {
		var row gapRow
		err := tx.Where("series = ? AND what = ? AND cause = ? AND detail = ? AND author = ? AND NOT removed AND ended >= ? AND began <= ?",
			string(more.Series), more.Of, string(more.Cause), more.Detail, more.Author, more.From.Add(-near).UnixNano(),
			more.To.UnixNano()).Order("ended DESC").Limit(1).Find(&row).Error
		if err != nil {
			return fmt.Errorf("reading gaps of %s: %w", more.Series, err)
		}
		if row.ID != 0 {
			before := row.gap()
			more.ID = row.ID
			if before.From.Before(more.From) {
				more.From = before.From
			}
			if before.To.After(more.To) {
				more.To = before.To
			}
		}
		return put(tx, []GapChange{{Gap: more}})
	}
}

// Add records by itself that more is missing, see Extend, and announces it.
func (g Gaps) Add(more Gap) error {
	err := g.file.Write(func(w sqlite.Writer) error { return w.Transaction(g.Extend(more)) })
	if err != nil {
		return g.file.SetTrouble("writing gaps", err)
	}
	g.file.ClearTrouble("writing gaps")
	g.Announce()
	return nil
}

// Write keeps changes by themselves, and announces them.
func (g Gaps) Write(changes []GapChange) error {
	if len(changes) == 0 {
		return nil
	}
	err := g.file.Write(func(w sqlite.Writer) error { return w.Transaction(func(tx *gorm.DB) error { return put(tx, changes) }) })
	if err != nil {
		return g.file.SetTrouble("writing gaps", err)
	}
	g.file.ClearTrouble("writing gaps")
	g.Announce()
	return nil
}

// Unapplied returns what was removed and is still in this store.
func (g Gaps) Unapplied() ([]Gap, error) {
	var rows []gapRow
	err := g.file.Reader().Where("cause = ? AND NOT removed AND NOT applied", string(gap.Removed)).Order("id").Find(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("reading what was removed: %w", err)
	}
	out := make([]Gap, len(rows))
	for i, r := range rows {
		out[i] = r.gap()
	}
	return out, nil
}

// Apply notes that what was removed is not in this store any more.
func (g Gaps) Apply(ids []uint64) error {
	return g.file.Write(func(w sqlite.Writer) error {
		return w.DB().Model(&gapRow{}).Where("id IN ?", ids).Update("applied", true).Error
	})
}

// Removed returns, by series, what persons removed.
func (g Gaps) Removed() (map[series.Path][]Gap, error) {
	var rows []gapRow
	if err := g.file.Reader().Where("cause = ? AND NOT removed", string(gap.Removed)).Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading what was removed: %w", err)
	}
	out := map[series.Path][]Gap{}
	for _, r := range rows {
		out[series.Path(r.Series)] = append(out[series.Path(r.Series)], r.gap())
	}
	return out, nil
}

// Announce tells whoever sends gaps that some changed.
func (g Gaps) Announce() { g.changed.announce() }

// Newest returns the number of the last change.
func (g Gaps) Newest() (uint64, error) { return lastGap(g.file.Reader()) }

// Since returns the gaps that changed after a change, in the order of their last changes, at most so many.
func (g Gaps) Since(change uint64, most int) ([]GapVersion, error) {
	var rows []gapRow
	if err := g.file.Reader().Where("change > ?", change).Order("change").Limit(most).Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading what changed of gaps: %w", err)
	}
	out := make([]GapVersion, len(rows))
	for i, r := range rows {
		out[i] = GapVersion{r.gap(), r.UID, r.Version, r.Removed, r.Change}
	}
	return out, nil
}

// Take keeps gaps of another store in the transaction that the change becomes part of, but for those of which
// this one has the same version, or a higher.
func (g Gaps) Take(in GapVersion) sqlite.Change {
	return func(tx *gorm.DB) error {
		var row gapRow
		if err := tx.Where("uid = ?", in.UID).Limit(1).Find(&row).Error; err != nil {
			return fmt.Errorf("reading gap %s: %w", in.UID, err)
		}
		if row.ID != 0 && row.Version >= in.Version {
			return nil
		}
		change, err := lastGap(tx)
		if err != nil {
			return err
		}
		row.take(in.Gap)
		row.UID, row.Version, row.Removed, row.Change = in.UID, in.Version, in.Removed, change+1
		if err := tx.Save(&row).Error; err != nil {
			return fmt.Errorf("writing gap %s: %w", in.UID, err)
		}
		return nil
	}
}

// few is how many series are looked up one by one, instead of reading the gaps of all.
const few = 200

// Between returns the gaps that reach into a time range, those of each series in order of time; paths are the
// series, or nil for all.
func (g Gaps) Between(from, to time.Time, paths []series.Path) ([]Gap, error) {
	return between(g.file.Reader(), from, to, paths)
}

func between(db *gorm.DB, from, to time.Time, paths []series.Path) ([]Gap, error) {
	reaching := func() *gorm.DB {
		return db.Where("began < ? AND (ended > ? OR ended = 0) AND NOT removed", to.UnixNano(), from.UnixNano()).
			Order("series, began")
	}
	var rows []gapRow
	if paths == nil || len(paths) > few {
		if err := reaching().Find(&rows).Error; err != nil {
			return nil, fmt.Errorf("reading the gaps: %w", err)
		}
	} else {
		for some := range slices.Chunk(paths, 50) {
			var more []gapRow
			if err := reaching().Where("series IN ?", some).Find(&more).Error; err != nil {
				return nil, fmt.Errorf("reading the gaps: %w", err)
			}
			rows = append(rows, more...)
		}
	}
	out := make([]Gap, len(rows))
	for i, r := range rows {
		out[i] = r.gap()
	}
	return out, nil
}

// Latest returns, for each series with gaps in its readings, the end of its latest; 0 while that goes on.
func (g Gaps) Latest() (map[series.Path]int64, error) {
	var rows []gapRow
	err := g.file.Reader().Model(&gapRow{}).Select("series, CASE WHEN min(ended) = 0 THEN 0 ELSE max(ended) END AS ended").
		Where("NOT removed AND what = ''").Group("series").Find(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("reading the gaps: %w", err)
	}
	out := make(map[series.Path]int64, len(rows))
	for _, r := range rows {
		out[series.Path(r.Series)] = r.Ended
	}
	return out, nil
}

// Drop forgets gaps that ended long before a time, the oldest of a series with very many, and that others once were.
func (g Gaps) Drop(now time.Time) error {
	return g.file.Write(func(w sqlite.Writer) error {
		return w.Transaction(func(tx *gorm.DB) error {
			last, err := lastGap(tx) // the newest change stays, so that no number comes again
			if err != nil {
				return err
			}
			if err := tx.Where("change < ? AND (ended > 0 AND ended < ? OR removed AND ended < ?)", last,
				now.Add(-keepGaps).UnixNano(), now.Add(-keepRemovedGaps).UnixNano()).Delete(&gapRow{}).Error; err != nil {
				return err
			}
			var many []string
			if err := tx.Model(&gapRow{}).Group("series").Having("count(*) > ?", mostGaps).Pluck("series", &many).Error; err != nil {
				return err
			}
			for _, of := range many {
				if err := tx.Exec("DELETE FROM gaps WHERE series = ? AND ended > 0 AND change < ? AND id NOT IN (SELECT id FROM gaps WHERE series = ? ORDER BY began DESC LIMIT ?)",
					of, last, of, mostGaps).Error; err != nil {
					return err
				}
			}
			return nil
		})
	})
}

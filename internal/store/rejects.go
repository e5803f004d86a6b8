package store

import (
	"fmt"
	"math"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
)

// keepRejects is how many rejects are kept; the oldest go first. All are counted.
const keepRejects = 20_000

// keepCounts is how long the counts of rejects by hour, source and rule are kept.
const keepCounts = 400 * 24 * time.Hour

func (s *Store) writeRejects(tx *gorm.DB, rejects []reading.Reject) error {
	if len(rejects) == 0 {
		return nil
	}
	rows := make([]rejectRow, len(rejects))
	counts := map[rejectCountRow]int64{}
	for i, r := range rejects {
		s.lastReject++
		rows[i] = rejectRow{ID: s.lastReject, Time: r.Time, Source: r.Source, Place: r.Place, Reason: r.Reason, Raw: r.Raw, Rule: r.Rule}
		if one := r.Reading; one != nil {
			rows[i].Series, rows[i].Text, rows[i].Unit, rows[i].At = string(one.Path), one.Text, one.Unit, one.Time
			if one.Text == "" {
				rows[i].Value = &one.Value
			}
		}
		counts[rejectCountRow{Hour: hourOf(r.Time), Source: r.Source, Rule: r.Rule}]++
	}
	if err := tx.CreateInBatches(rows, 500).Error; err != nil {
		return fmt.Errorf("writing rejects: %w", err)
	}
	for count, n := range counts {
		count.Count = n
		more := clause.OnConflict{
			Columns:   []clause.Column{{Name: "hour"}, {Name: "source"}, {Name: "rule"}},
			DoUpdates: clause.Assignments(map[string]any{"row_count": gorm.Expr("reject_counts.row_count + ?", n)}),
		}
		if err := tx.Clauses(more).Create(&count).Error; err != nil {
			return fmt.Errorf("counting rejects: %w", err)
		}
	}
	newest := rows[len(rows)-1].ID
	if newest <= keepRejects {
		return nil
	}
	if err := tx.Where("id <= ?", newest-keepRejects).Delete(&rejectRow{}).Error; err != nil {
		return fmt.Errorf("dropping the oldest rejects: %w", err)
	}
	if err := tx.Where("hour < ?", hourOf(rejects[0].Time-int64(keepCounts))).Delete(&rejectCountRow{}).Error; err != nil {
		return fmt.Errorf("dropping the oldest counts of rejects: %w", err)
	}
	return nil
}

func hourOf(t int64) int64 { return time.Unix(0, t).Truncate(time.Hour).Unix() }

// Wanting says which rejects are wanted; what is empty or 0 is of no matter.
type Wanting struct {
	Source, Rule string
	Series       series.Selector // without a text: all, and those of no series
	After        uint64          // only with higher ids
	Before       uint64          // only with lower ids
	From, To     int64           // only of readings of this time, or refused in it where they have none, ns; To 0: no matter
	Counting     bool            // only those that do not count yet
	Most         int
}

// Rejects are the newest that are wanted, newest first.
func (s *Store) Rejects(w Wanting) (out []reading.Reject, err error) {
	for len(out) < w.Most {
		query := s.reader.Order("id desc").Limit(max(w.Most-len(out), 500))
		for _, c := range []struct {
			given bool
			text  string
			value any
		}{
			{w.Source != "", "source = ?", w.Source}, {w.Rule != "", "rule = ?", w.Rule}, {w.After > 0, "id > ?", w.After},
			{w.Before > 0, "id < ?", w.Before}, {w.To > 0, "(CASE WHEN at = 0 THEN time ELSE at END) >= ?", w.From}, {w.To > 0, "(CASE WHEN at = 0 THEN time ELSE at END) < ?", w.To},
			{w.Counting, "replayed = ?", 0},
		} {
			if c.given {
				query = query.Where(c.text, c.value)
			}
		}
		var rows []rejectRow
		if err := query.Find(&rows).Error; err != nil {
			return nil, fmt.Errorf("reading the rejects: %w", err)
		}
		if len(rows) == 0 {
			break
		}
		for _, r := range rows {
			if w.Series.String() == "" || r.Series != "" && w.Series.Match(series.Path(r.Series)) {
				out = append(out, r.reject())
			}
		}
		w.Before = rows[len(rows)-1].ID
	}
	return out[:min(len(out), w.Most)], nil
}

// Reject is the one with an id; nil when it is not kept any more, or never was.
func (s *Store) Reject(id uint64) (*reading.Reject, error) {
	var rows []rejectRow
	if err := s.reader.Where("id = ?", id).Limit(1).Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading reject %d: %w", id, err)
	}
	if len(rows) == 0 {
		return nil, nil
	}
	out := rows[0].reject()
	return &out, nil
}

func (r *rejectRow) reject() reading.Reject {
	out := reading.Reject{ID: r.ID, Time: r.Time, Source: r.Source, Place: r.Place, Reason: r.Reason, Raw: r.Raw, Rule: r.Rule, Replayed: r.Replayed}
	if out.Rule == "" { // from before rules had names
		out.Rule = reading.Unreadable
	}
	if r.Series != "" {
		out.Reading = &reading.Reading{Path: series.Path(r.Series), Time: r.At, Text: r.Text, Unit: r.Unit, Value: math.NaN()}
		if r.Value != nil { // a column cannot hold what is no number
			out.Reading.Value = *r.Value
		}
	}
	return out
}

// DidReplay notes that rejects count after all.
func (s *Store) DidReplay(ids []uint64, at time.Time) error {
	s.write.Lock()
	defer s.write.Unlock()
	for len(ids) > 0 {
		n := min(len(ids), 500)
		if err := s.db.Model(&rejectRow{}).Where("id IN ?", ids[:n]).Update("replayed", at.UnixNano()).Error; err != nil {
			return s.noted("writing", fmt.Errorf("noting replayed rejects: %w", err))
		}
		ids = ids[n:]
	}
	return nil
}

// RejectCount is how many readings and messages were refused in an hour.
type RejectCount struct {
	Hour         time.Time
	Source, Rule string
	Count        int64
}

// RejectCounts returns the counts of the hours that begin within a span of time, by hour, source and
// rule. They count more than are kept.
func (s *Store) RejectCounts(from, to time.Time) (out []RejectCount, err error) {
	var rows []rejectCountRow
	if err := s.reader.Where("hour >= ? AND hour < ?", from.Unix(), to.Unix()).Order("hour, source, rule").Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading the counts of rejects: %w", err)
	}
	for _, r := range rows {
		out = append(out, RejectCount{time.Unix(r.Hour, 0).UTC(), r.Source, r.Rule, r.Count})
	}
	return out, nil
}

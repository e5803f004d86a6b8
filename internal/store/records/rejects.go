package records

import (
	"fmt"
	"math"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// keepRejects is how many rejects are kept; the oldest go first. All are counted.
const keepRejects = 20_000

// keepCounts is how long the counts of rejects by hour, source and rule are kept.
const keepCounts = 400 * 24 * time.Hour

type rejectRow struct {
	ID       uint64 `gorm:"primaryKey;autoIncrement:false"`
	Time     int64
	Source   string
	Place    string
	Reason   string
	Raw      []byte
	Rule     string   `gorm:"not null;default:''"` // that refused it
	Series   string   `gorm:"not null;default:''"` // its path; empty of what could not be read
	Value    *float64 // before it was calibrated
	Text     string   `gorm:"not null;default:''"` // instead of Value: the name of a state
	Unit     string   `gorm:"not null;default:''"`
	At       int64    `gorm:"not null;default:0"` // time of the reading
	Replayed int64    `gorm:"not null;default:0"` // when it counted after all
}

func (rejectRow) TableName() string { return "rejects" }

// rejectCountRow counts the rejects of an hour.
type rejectCountRow struct {
	Hour   int64  `gorm:"primaryKey;autoIncrement:false"` // seconds since 1970
	Source string `gorm:"primaryKey"`
	Rule   string `gorm:"primaryKey"`
	Count  int64  `gorm:"column:row_count"`
}

func (rejectCountRow) TableName() string { return "reject_counts" }

// Rejects are the readings and messages that were refused.
type Rejects struct {
	file *sqlite.File
	last uint64 // the highest id there ever was; changed within transactions only
}

func newRejects(file *sqlite.File) (*Rejects, error) {
	r := &Rejects{file: file}
	if err := file.Reader().Model(&rejectRow{}).Select("coalesce(max(id), 0)").Scan(&r.last).Error; err != nil {
		return nil, fmt.Errorf("reading the rejects: %w", err)
	}
	return r, nil
}

// Add keeps and counts rejects in the transaction that the change becomes part of.
func (r *Rejects) Add(rejects []reading.Reject) sqlite.Change {
	return func(tx *gorm.DB) error {
		if len(rejects) == 0 {
			return nil
		}
		return r.add(tx, rejects)
	}
}

func (r *Rejects) add(tx *gorm.DB, rejects []reading.Reject) error {
	rows := make([]rejectRow, len(rejects))
	counts := map[rejectCountRow]int64{}
	for i, one := range rejects {
		r.last++
		rows[i] = rejectRow{
			ID:     r.last,
			Time:   one.Time,
			Source: one.Source,
			Place:  one.Place,
			Reason: one.Reason,
			Raw:    one.Raw,
			Rule:   one.Rule,
		}
		if of := one.Reading; of != nil {
			rows[i].Series, rows[i].Text, rows[i].Unit, rows[i].At = string(of.Path), of.Text, of.Unit, of.Time
			if of.Text == "" {
				rows[i].Value = &of.Value
			}
		}
		counts[rejectCountRow{Hour: hourOf(one.Time), Source: one.Source, Rule: one.Rule}]++
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

// List returns the newest that are wanted, newest first.
func (r *Rejects) List(w Wanting) (out []reading.Reject, err error) {
	for len(out) < w.Most {
		query := r.file.Reader().Order("id desc").Limit(max(w.Most-len(out), 500))
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
		for _, row := range rows {
			if w.Series.String() == "" || row.Series != "" && w.Series.Match(series.Path(row.Series)) {
				out = append(out, row.reject())
			}
		}
		w.Before = rows[len(rows)-1].ID
	}
	return out[:min(len(out), w.Most)], nil
}

// Get returns the one with an id; nil when it is not kept any more, or never was.
func (r *Rejects) Get(id uint64) (*reading.Reject, error) {
	var rows []rejectRow
	if err := r.file.Reader().Where("id = ?", id).Limit(1).Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading reject %d: %w", id, err)
	}
	if len(rows) == 0 {
		return nil, nil
	}
	out := rows[0].reject()
	return &out, nil
}

func (r *rejectRow) reject() reading.Reject {
	out := reading.Reject{
		ID:       r.ID,
		Time:     r.Time,
		Source:   r.Source,
		Place:    r.Place,
		Reason:   r.Reason,
		Raw:      r.Raw,
		Rule:     r.Rule,
		Replayed: r.Replayed,
	}
	if out.Rule == "" { // from before rules had names
		out.Rule = reading.Unreadable
	}
	if r.Series != "" {
		out.Reading = &reading.Reading{
			Path:  series.Path(r.Series),
			Time:  r.At,
			Text:  r.Text,
			Unit:  r.Unit,
			Value: math.NaN(),
		}
		if r.Value != nil { // a column cannot hold what is no number
			out.Reading.Value = *r.Value
		}
	}
	return out
}

// Replayed notes that rejects count after all.
func (r *Rejects) Replayed(ids []uint64, at time.Time) error {
	return r.file.Write(func(w sqlite.Writer) error {
		for some := range slices.Chunk(ids, 500) {
			if err := w.DB().Model(&rejectRow{}).Where("id IN ?", some).Update("replayed", at.UnixNano()).Error; err != nil {
				return r.file.SetTrouble("writing", fmt.Errorf("noting replayed rejects: %w", err))
			}
		}
		return nil
	})
}

// RejectCount is how many readings and messages were refused in an hour.
type RejectCount struct {
	Hour         time.Time
	Source, Rule string
	Count        int64
}

// Counts returns the counts of the hours that begin within a span of time, by hour, source and
// rule. They count more than are kept.
func (r *Rejects) Counts(from, to time.Time) (out []RejectCount, err error) {
	var rows []rejectCountRow
	if err := r.file.Reader().Where("hour >= ? AND hour < ?", from.Unix(), to.Unix()).Order("hour, source, rule").Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading the counts of rejects: %w", err)
	}
	for _, row := range rows {
		out = append(out, RejectCount{time.Unix(row.Hour, 0).UTC(), row.Source, row.Rule, row.Count})
	}
	return out, nil
}

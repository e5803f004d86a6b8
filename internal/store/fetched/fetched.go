package fetched

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/core/chunk"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// Span is a time whose readings were asked for.
type Span struct {
	Series   series.Path
	From, To int64     // nanoseconds since 1970; To is not included
	Until    time.Time // when they go
	Complete bool      // all of them are here
	Live     bool      // they come as they are made
	Request  string
}

// Fetched are the readings that were asked for.
type Fetched struct {
	file *sqlite.File

	mu    sync.RWMutex
	spans map[series.Path][]Span
}

// Open reads what was asked for.
func Open(file *sqlite.File) (*Fetched, error) {
	f := &Fetched{file: file}
	return f, f.refresh()
}

func (f *Fetched) refresh() error {
	var rows []spanRow
	if err := f.file.Reader().Order("series, began").Find(&rows).Error; err != nil {
		return fmt.Errorf("reading which readings were fetched: %w", err)
	}
	spans := map[series.Path][]Span{}
	for _, r := range rows {
		path := series.Path(r.Series)
		spans[path] = append(spans[path], Span{path, r.Began, r.Ended, time.Unix(0, r.Until).UTC(), r.Complete, r.Live, r.Request})
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.spans = spans
	return nil
}

func (f *Fetched) write(change func(tx *gorm.DB) error) error {
	err := f.file.Write(func(w sqlite.Writer) error { return w.Transaction(change) })
	if err != nil {
		return f.file.SetTrouble("writing fetched readings", fmt.Errorf("writing which readings are fetched: %w", err))
	}
	f.file.ClearTrouble("writing fetched readings")
	return f.refresh()
}

// Expect says that a request asks for readings, live those that are still to be made; what comes of them is kept until a time.
func (f *Fetched) Expect(request string, paths []series.Path, from, to int64, live bool, until time.Time) error {
	return f.write(func(tx *gorm.DB) error {
		if err := tx.Where("request = ?", request).Delete(&spanRow{}).Error; err != nil {
			return err
		}
		rows := make([]spanRow, len(paths))
		for i, path := range paths {
			rows[i] = spanRow{Series: string(path), Began: from, Ended: to, Until: until.UnixNano(), Live: live, Request: request}
		}
		return tx.CreateInBatches(rows, 500).Error
	})
}

// Complete says that all readings of these spans have arrived, as far as a request asked for them.
func (f *Fetched) Complete(request string, all []Span) error {
	return f.write(func(tx *gorm.DB) error {
		var asked []spanRow
		if err := tx.Where("request = ?", request).Find(&asked).Error; err != nil {
			return err
		}
		for _, row := range asked {
			i := slices.IndexFunc(all, func(s Span) bool { return string(s.Series) == row.Series })
			if i < 0 || max(row.Began, all[i].From) >= min(row.Ended, all[i].To) {
				if err := tx.Delete(&row).Error; err != nil {
					return err
				}
				continue
			}
			row.Began, row.Ended, row.Complete, row.Live = max(row.Began, all[i].From), min(row.Ended, all[i].To), true, false
			if err := tx.Save(&row).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// Forget forgets what a request asked for and has not got.
func (f *Fetched) Forget(request string) error {
	return f.write(func(tx *gorm.DB) error {
		return tx.Where("request = ? AND NOT complete", request).Delete(&spanRow{}).Error
	})
}

// lead is how far before a span readings are kept as well, because the last one before it speaks for its start.
const lead = int64(24 * time.Hour)

// Take keeps readings of a series as far as somebody asked for them; it is nil when nobody did.
func (f *Fetched) Take(path series.Path, rows column.Block) sqlite.Change {
	f.mu.RLock()
	spans := f.spans[path]
	f.mu.RUnlock()
	var until time.Time
	keep := column.New(1, 0)
	for i, t := range rows.Times {
		for _, s := range spans {
			if t >= s.From-lead && t < s.To {
				keep.Append(rows.Rows(i, i+1))
				if s.Until.After(until) {
					until = s.Until
				}
				break
			}
		}
	}
	if keep.Len() == 0 {
		return nil
	}
	return func(tx *gorm.DB) error {
		data, err := chunk.Encode(keep)
		if err != nil {
			return err
		}
		row := partRow{
			Series: string(path), FirstAt: keep.Times[0], LastAt: keep.Times[keep.Len()-1], Rows: keep.Len(),
			Until: until.UnixNano(), Checksum: sqlite.Sum(data), Payload: data,
		}
		if err := tx.Create(&row).Error; err != nil {
			return fmt.Errorf("writing fetched readings of %s: %w", path, err)
		}
		return nil
	}
}

// Covers reports whether all readings of a time are here.
func (f *Fetched) Covers(path series.Path, from, to int64) bool {
	return f.covers(path, from, to, func(s Span) bool { return s.Complete })
}

// Follows reports whether all readings of a time are here or come as they are made.
func (f *Fetched) Follows(path series.Path, from, to int64) bool {
	return f.covers(path, from, to, func(s Span) bool { return s.Complete || s.Live })
}

func (f *Fetched) covers(path series.Path, from, to int64, counts func(Span) bool) bool {
	f.mu.RLock()
	defer f.mu.RUnlock()
	for _, s := range f.spans[path] { // in order of their beginnings
		if counts(s) && s.From <= from && s.To > from {
			if from = s.To; from >= to {
				return true
			}
		}
	}
	return false
}

// Spans returns what was asked for of a series within a time, in order.
func (f *Fetched) Spans(path series.Path, from, to int64) (out []Span) {
	f.mu.RLock()
	defer f.mu.RUnlock()
	for _, s := range f.spans[path] {
		if s.From < to && s.To > from {
			out = append(out, s)
		}
	}
	return out
}

// Read returns the readings of a series with from <= time < to that are here.
func (f *Fetched) Read(ctx context.Context, path series.Path, from, to int64) (column.Block, error) {
	var rows []partRow
	if err := f.file.Reader().WithContext(ctx).Where("series = ? AND first_at < ? AND last_at >= ?", string(path), to, from).
		Order("id").Find(&rows).Error; err != nil {
		return column.Block{}, fmt.Errorf("reading fetched readings of %s: %w", path, err)
	}
	out := column.New(1, 0)
	for _, r := range rows {
		if sqlite.Sum(r.Payload) != r.Checksum {
			return out, fmt.Errorf("fetched readings of %s from %s are damaged: fetch them again", path,
				time.Unix(0, r.FirstAt).UTC().Format(time.RFC3339))
		}
		b, err := chunk.Decode(r.Payload)
		if err != nil {
			return out, fmt.Errorf("fetched readings of %s: %w", path, err)
		}
		switch n := out.Len(); {
		case n == 0:
			out = b.Clone() // what follows is appended to it
		case b.Len() > 0 && b.Times[0] > out.Times[n-1]:
			out.Append(b)
		default:
			out = column.Merge(out, b) // it came twice
		}
	}
	return out.Between(from, to), nil
}

// Last returns the last reading of a series before a time, within a day.
func (f *Fetched) Last(ctx context.Context, path series.Path, before int64) (at int64, value float64, ok bool, err error) {
	rows, err := f.Read(ctx, path, before-lead, before)
	if err != nil || rows.Len() == 0 {
		return 0, 0, false, err
	}
	last := rows.Len() - 1
	return rows.Times[last], rows.Cols[0][last], true, nil
}

// Revise forgets that the readings of a window are complete when its summary counts another number of them.
func (f *Fetched) Revise(ctx context.Context, path series.Path, tier series.Tier, starts []int64, counts []float64) error {
	for i, start := range starts {
		end := start + int64(tier)
		if !f.Covers(path, start, end) {
			continue
		}
		rows, err := f.Read(ctx, path, start, end)
		if err == nil && rows.Len() == int(counts[i]) {
			continue
		}
		if err := f.cut(path, start, end); err != nil {
			return err
		}
	}
	return nil
}

// cut takes a time out of the spans of a series.
func (f *Fetched) cut(path series.Path, from, to int64) error {
	return f.write(func(tx *gorm.DB) error {
		var rows []spanRow
		if err := tx.Where("series = ? AND began < ? AND ended > ? AND complete", string(path), to, from).Find(&rows).Error; err != nil {
			return err
		}
		for _, r := range rows {
			if err := tx.Delete(&r).Error; err != nil {
				return err
			}
			for _, part := range [][2]int64{{r.Began, from}, {to, r.Ended}} {
				if part[0] < part[1] {
					left := r
					left.ID, left.Began, left.Ended = 0, part[0], part[1]
					if err := tx.Create(&left).Error; err != nil {
						return err
					}
				}
			}
		}
		return nil
	})
}

// Any reports whether anything was asked for of a series.
func (f *Fetched) Any(path series.Path) bool {
	f.mu.RLock()
	defer f.mu.RUnlock()
	return len(f.spans[path]) > 0
}

// Drop forgets what has been here for its time.
func (f *Fetched) Drop(now time.Time) error {
	f.mu.RLock()
	none := len(f.spans) == 0
	f.mu.RUnlock()
	if none {
		return nil
	}
	return f.write(func(tx *gorm.DB) error {
		return cmp.Or(tx.Where("until < ?", now.UnixNano()).Delete(&spanRow{}).Error,
			tx.Where("until < ?", now.UnixNano()).Delete(&partRow{}).Error)
	})
}

// Unsettled returns the requests that have not brought all they asked for.
func (f *Fetched) Unsettled() (requests []string) {
	f.mu.RLock()
	defer f.mu.RUnlock()
	for _, of := range f.spans {
		for _, s := range of {
			if !s.Complete && !slices.Contains(requests, s.Request) {
				requests = append(requests, s.Request)
			}
		}
	}
	return requests
}

// Renamed follows when series got other paths.
func (f *Fetched) Renamed() error { return f.refresh() }

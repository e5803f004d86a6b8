package store

import (
	"fmt"
	"time"
)

// Note is a person's text, pinned to a time and a place.
type Note struct {
	ID      uint64
	At      time.Time
	About   string // path of a site, a station or a series
	Text    string
	Author  string
	Written time.Time
}

type noteRow struct {
	ID      uint64 `gorm:"primaryKey"`
	At      int64  `gorm:"index"`
	About   string
	Text    string
	Author  string
	Written int64
}

func (noteRow) TableName() string { return "notes" }

func (r noteRow) note() Note {
	return Note{r.ID, time.Unix(0, r.At).UTC(), r.About, r.Text, r.Author, time.Unix(0, r.Written).UTC()}
}

// AddNote keeps a note and gives it its number.
func (s *Store) AddNote(n Note) (Note, error) {
	s.write.Lock()
	defer s.write.Unlock()
	row := noteRow{At: n.At.UnixNano(), About: n.About, Text: n.Text, Author: n.Author, Written: n.Written.UnixNano()}
	if err := s.db.Create(&row).Error; err != nil {
		return n, s.noted("writing a note", fmt.Errorf("writing the note: %w", err))
	}
	s.resolved("writing a note")
	return row.note(), nil
}

// Note is the one with a number; nil when there is none.
func (s *Store) Note(id uint64) (*Note, error) {
	var rows []noteRow
	if err := s.reader.Where("id = ?", id).Find(&rows).Error; err != nil || len(rows) == 0 {
		return nil, err
	}
	n := rows[0].note()
	return &n, nil
}

// RemoveNote takes a note away.
func (s *Store) RemoveNote(id uint64) error {
	s.write.Lock()
	defer s.write.Unlock()
	return s.db.Delete(&noteRow{ID: id}).Error
}

// Notes returns notes with from <= at < to for which want is true, newest first, at most most.
func (s *Store) Notes(from, to time.Time, most int, want func(Note) bool) ([]Note, error) {
	rows, err := s.reader.Model(&noteRow{}).Where("at >= ? AND at < ?", from.UnixNano(), to.UnixNano()).Order("at DESC, id DESC").Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Note
	for rows.Next() && len(out) < most {
		var r noteRow
		if err := s.reader.ScanRows(rows, &r); err != nil {
			return nil, err
		}
		if n := r.note(); want(n) {
			out = append(out, n)
		}
	}
	return out, rows.Err()
}

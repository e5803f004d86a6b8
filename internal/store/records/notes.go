package records

import (
	"fmt"
	"nexocumula/internal/store/sqlite"
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

// Notes are the notes of people.
type Notes struct{ file *sqlite.File }

// Add keeps a note and gives it its number.
func (n Notes) Add(note Note) (Note, error) {
	row := noteRow{At: note.At.UnixNano(), About: note.About, Text: note.Text, Author: note.Author, Written: note.Written.UnixNano()}
	err := n.file.Write(func(w sqlite.Writer) error { return w.DB().Create(&row).Error })
	if err != nil {
		return note, n.file.Failed("writing a note", fmt.Errorf("writing the note: %w", err))
	}
	n.file.Succeeded("writing a note")
	return row.note(), nil
}

// Get returns the one with a number; nil when there is none.
func (n Notes) Get(id uint64) (*Note, error) {
	var rows []noteRow
	if err := n.file.Reader().Where("id = ?", id).Find(&rows).Error; err != nil || len(rows) == 0 {
		return nil, err
	}
	note := rows[0].note()
	return &note, nil
}

// Remove takes a note away.
func (n Notes) Remove(id uint64) error {
	return n.file.Write(func(w sqlite.Writer) error { return w.DB().Delete(&noteRow{ID: id}).Error })
}

// Between returns notes with from <= at < to for which want is true, newest first, at most most.
func (n Notes) Between(from, to time.Time, most int, want func(Note) bool) ([]Note, error) {
	rows, err := n.file.Reader().Model(&noteRow{}).Where("at >= ? AND at < ?", from.UnixNano(), to.UnixNano()).Order("at DESC, id DESC").Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Note
	for rows.Next() && len(out) < most {
		var r noteRow
		if err := n.file.Reader().ScanRows(rows, &r); err != nil {
			return nil, err
		}
		if note := r.note(); want(note) {
			out = append(out, note)
		}
	}
	return out, rows.Err()
}

package records

import (
	"crypto/rand"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/store/sqlite"
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

// NoteVersion is a note as it travels from store to store: the one with the higher version counts.
type NoteVersion struct {
	Note
	UID     string // the same in all stores
	Version uint64 // from 1 on
	Removed bool
	Change  uint64 // number of the last change of notes in this store
}

type noteRow struct {
	ID      uint64 `gorm:"primaryKey"`
	At      int64  `gorm:"index"`
	About   string
	Text    string
	Author  string
	Written int64
	UID     string `gorm:"column:uid;uniqueIndex:notes_uid;not null;default:''"`
	Version uint64 `gorm:"not null;default:1"`
	Removed bool   `gorm:"not null;default:false"`
	Change  uint64 `gorm:"index:notes_change;not null;default:0"`
}

func (noteRow) TableName() string { return "notes" }

func (r noteRow) note() Note {
	return Note{r.ID, time.Unix(0, r.At).UTC(), r.About, r.Text, r.Author, time.Unix(0, r.Written).UTC()}
}

// keepRemovedNotes is how long it is known that a note was removed.
const keepRemovedNotes = 400 * 24 * time.Hour

// next gives the row the number of the next change.
func (r *noteRow) next(tx *gorm.DB) error {
	return tx.Model(&noteRow{}).Select("coalesce(max(change), 0) + 1").Scan(&r.Change).Error
}

// Notes are the notes of people.
type Notes struct {
	file    *sqlite.File
	changed *announcement
}

// write makes a change in one step, and announces it.
func (n Notes) write(change sqlite.Change) error {
	err := n.file.Write(func(w sqlite.Writer) error { return w.Transaction(change) })
	if err != nil {
		return n.file.SetTrouble("writing a note", fmt.Errorf("writing the note: %w", err))
	}
	n.file.ClearTrouble("writing a note")
	n.changed.announce()
	return nil
}

// Add keeps a note and gives it its number.
func (n Notes) Add(note Note) (Note, error) {
	row := noteRow{
		At:      note.At.UnixNano(),
		About:   note.About,
		Text:    note.Text,
		Author:  note.Author,
		Written: note.Written.UnixNano(),
		UID:     rand.Text(),
		Version: 1,
	}
	err := n.write(func(tx *gorm.DB) error {
		if err := row.next(tx); err != nil {
			return err
		}
		return tx.Create(&row).Error
	})
	if err != nil {
		return note, err
	}
	return row.note(), nil
}

// Get returns the one with a number; nil when there is none.
func (n Notes) Get(id uint64) (*Note, error) {
	var rows []noteRow
	if err := n.file.Reader().Where("id = ? AND NOT removed", id).Find(&rows).Error; err != nil || len(rows) == 0 {
		return nil, err
	}
	note := rows[0].note()
	return &note, nil
}

// VersionOf returns the newest version of the one with a number, also of one that was removed.
func (n Notes) VersionOf(id uint64) (out NoteVersion, ok bool, err error) {
	var rows []noteRow
	if err := n.file.Reader().Where("id = ?", id).Find(&rows).Error; err != nil || len(rows) == 0 {
		return out, false, err
	}
	r := rows[0]
	return NoteVersion{r.note(), r.UID, r.Version, r.Removed, r.Change}, true, nil
}

// Remove takes a note away. That it was there stays known for a while, so that other stores learn of it.
func (n Notes) Remove(id uint64) error {
	return n.write(func(tx *gorm.DB) error {
		var row noteRow
		if err := tx.Where("id = ? AND NOT removed", id).Limit(1).Find(&row).Error; err != nil || row.ID == 0 {
			return err
		}
		if err := row.next(tx); err != nil {
			return err
		}
		row.Text, row.Removed, row.Version = "", true, row.Version+1
		if err := tx.Save(&row).Error; err != nil {
			return err
		}
		old := n.file.Judge().Now().Add(-keepRemovedNotes).UnixNano()
		return tx.Where("removed AND written < ? AND change < ?", old, row.Change).Delete(&noteRow{}).Error // the newest change stays, so that no number comes again
	})
}

// Newest returns the number of the last change.
func (n Notes) Newest() (change uint64, err error) {
	err = n.file.Reader().Model(&noteRow{}).Select("coalesce(max(change), 0)").Scan(&change).Error
	return change, err
}

// Since returns the notes that changed after a change, in the order of their last changes, at most so many.
func (n Notes) Since(change uint64, most int) ([]NoteVersion, error) {
	var rows []noteRow
	if err := n.file.Reader().Where("change > ?", change).Order("change").Limit(most).Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading what changed of notes: %w", err)
	}
	out := make([]NoteVersion, len(rows))
	for i, r := range rows {
		out[i] = NoteVersion{r.note(), r.UID, r.Version, r.Removed, r.Change}
	}
	return out, nil
}

// Take keeps notes of another store in the transaction that the change becomes part of, but for those of which
// this one has the same version, or a higher.
func (n Notes) Take(notes []NoteVersion) sqlite.Change {
	return func(tx *gorm.DB) error {
		for _, in := range notes {
			var row noteRow
			if err := tx.Where("uid = ?", in.UID).Limit(1).Find(&row).Error; err != nil {
				return fmt.Errorf("reading note %s: %w", in.UID, err)
			}
			if row.ID != 0 && row.Version >= in.Version {
				continue
			}
			row.At, row.About, row.Text, row.Author, row.Written = in.At.UnixNano(), in.About, in.Text, in.Author, in.Written.UnixNano()
			row.UID, row.Version, row.Removed = in.UID, in.Version, in.Removed
			if err := row.next(tx); err != nil {
				return err
			}
			if err := tx.Save(&row).Error; err != nil {
				return fmt.Errorf("writing note %s: %w", in.UID, err)
			}
		}
		return nil
	}
}

// Keep takes notes of another store, see Take, and announces them.
func (n Notes) Keep(notes []NoteVersion) error {
	err := n.write(n.Take(notes))
	if err == nil {
		n.changed.announce()
	}
	return err
}

// Between returns notes with from <= at < to for which want is true, newest first, at most most.
func (n Notes) Between(from, to time.Time, most int, want func(Note) bool) ([]Note, error) {
	rows, err := n.file.Reader().Model(&noteRow{}).Where("at >= ? AND at < ? AND NOT removed", from.UnixNano(),
		to.UnixNano()).Order("at DESC, id DESC").Rows()
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

package engine

import (
	"fmt"

	"nexocumula/internal/store/sqlite"
)

// journalRow is one Append. The engine counts its ids, and never uses one again.
type journalRow struct {
	ID      uint64 `gorm:"primaryKey;autoIncrement:false"`
	Payload []byte
}

func (journalRow) TableName() string { return "journal" }

// replayJournal fills the tray from the journal rows left over.
func (e *Engine) replayJournal() error {
	rows, err := e.file.Reader().Model(&journalRow{}).Order("id").Rows()
	if err != nil {
		return fmt.Errorf("reading the journal: %w", err)
	}
	defer rows.Close()
	var broken []sqlite.Damaged
	for rows.Next() {
		var row journalRow
		if err := e.file.Reader().ScanRows(rows, &row); err != nil {
			return fmt.Errorf("reading the journal: %w", err)
		}
		entries, sketches, err := decodeJournal(row.Payload)
		if err != nil {
			broken = append(broken, sqlite.Damaged{ID: row.ID, Place: "journal", Reason: err.Error(), Raw: row.Payload})
		}
		e.alter(func(m *memory) {
			m.journal.last = max(m.journal.last, row.ID)
			if err == nil {
				m.takeIn(entries, sketches, len(row.Payload))
			}
		})
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("reading the journal: %w", err)
	}
	rows.Close()
	if len(broken) == 0 {
		return nil
	}
	if err := e.file.SetAside(broken); err != nil {
		return err
	}
	return e.saveJournalState(e.Commits()) // its highest row may be gone
}

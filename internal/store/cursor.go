package store

import (
	"fmt"
	"time"
)

// Cursor is how far an uplink is acknowledged: at a gateway by uplink, at a central
// by gateway.
type Cursor struct {
	Name    string
	Epoch   string // sequence numbers start again from 1 with each epoch
	Seq     uint64
	Updated time.Time
	Rows    uint64 // summaries acknowledged in all
	Status  []byte // what the other end last said of itself, as JSON
}

func (c Cursor) row() *cursorRow {
	return &cursorRow{Name: c.Name, Epoch: c.Epoch, Seq: c.Seq, Updated: c.Updated.UnixNano(), Rows: c.Rows, Status: c.Status}
}

// Cursors are all cursors by name.
func (s *Store) Cursors() (map[string]Cursor, error) {
	var rows []cursorRow
	if err := s.db.Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading the cursors: %w", err)
	}
	out := map[string]Cursor{}
	for _, r := range rows {
		out[r.Name] = Cursor{Name: r.Name, Epoch: r.Epoch, Seq: r.Seq, Updated: time.Unix(0, r.Updated).UTC(), Rows: r.Rows, Status: r.Status}
	}
	return out, nil
}

package records

import (
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/store/sqlite"
)

// Cursor is the progress of a gateway that replicates to here.
type Cursor struct {
	Name    string
	Life    string // of this central, when the last batch was stored
	Stored  uint64 // batches of the gateway stored in all, in this life and those before
	Lives   []Life // earlier lives, the newest last
	Rows    uint64 // summaries stored in all
	Updated time.Time
	Session string    // of the gateway's process that was heard last
	Sent    uint64    // its number of the last request that was stored
	Retired []Session // earlier sessions, the newest last
	Dropped uint64    // batches stored when the newest one ended that Retired does not name any more
	Status  []byte    // what the gateway last said of itself, as JSON
}

// Life is one run of a central: how much of a gateway it had stored when it ended.
type Life struct {
	ID     string
	Stored uint64
}

// Session is one process of a gateway: how much of the gateway was stored with its last
// batch; 0 when it never sent one.
type Session struct {
	ID     string
	Stored uint64
}

func (c Cursor) row() *cursorRow {
	row := cursorRow{
		Name:    c.Name,
		Life:    c.Life,
		Stored:  c.Stored,
		Rows:    c.Rows,
		Updated: c.Updated.UnixNano(),
		Session: c.Session,
		Sent:    c.Sent,
		Dropped: c.Dropped,
		Status:  c.Status,
	}
	lives, _ := json.Marshal(c.Lives) // texts and numbers can always be written
	retired, _ := json.Marshal(c.Retired)
	row.Lives, row.Retired = string(lives), string(retired)
	return &row
}

// cursorRow is the progress of a gateway that replicates to here.
type cursorRow struct {
	Name    string `gorm:"primaryKey"`
	Life    string // ours, when the last batch was stored
	Stored  uint64 // batches of it stored in all
	Lives   string // earlier lives, with what was stored when each ended
	Rows    uint64 `gorm:"column:row_count"`
	Updated int64
	Session string // of the gateway's process that was heard last
	Sent    uint64 // its number of that request
	Retired string // earlier sessions, with what was stored when each ended
	Dropped uint64 // what was stored when the newest ended that is not in Retired any more
	Status  []byte
}

func (cursorRow) TableName() string { return "cursors" }

// Cursors are the progress of the gateways that replicate to here.
type Cursors struct{ file *sqlite.File }

// Put keeps cursors in the transaction that the change becomes part of.
func (Cursors) Put(cursors ...Cursor) sqlite.Change {
	return func(tx *gorm.DB) error {
		for _, c := range cursors {
			if err := sqlite.Put(tx, c.row()); err != nil {
				return fmt.Errorf("writing the cursor of %s: %w", c.Name, err)
			}
		}
		return nil
	}
}

// All returns all cursors by name.
func (c Cursors) All() (map[string]Cursor, error) {
	var rows []cursorRow
	if err := c.file.Reader().Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading the cursors: %w", err)
	}
	out := map[string]Cursor{}
	for _, r := range rows {
		one := Cursor{
			Name:    r.Name,
			Life:    r.Life,
			Stored:  r.Stored,
			Rows:    r.Rows,
			Updated: time.Unix(0, r.Updated).UTC(),
			Session: r.Session,
			Sent:    r.Sent,
			Dropped: r.Dropped,
			Status:  r.Status,
		}
		if err := json.Unmarshal([]byte(r.Lives), &one.Lives); err != nil {
			return nil, fmt.Errorf("reading the cursor of %s: %w", r.Name, err)
		}
		if err := json.Unmarshal([]byte(r.Retired), &one.Retired); err != nil {
			return nil, fmt.Errorf("reading the cursor of %s: %w", r.Name, err)
		}
		out[r.Name] = one
	}
	return out, nil
}

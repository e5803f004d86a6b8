package sqlite

import (
	"crypto/rand"
	"fmt"

	"gorm.io/gorm"
)

// State is a small named record of whoever uses the store.
type State struct {
	Name    string
	Payload []byte
}

type stateRow struct {
	Name    string `gorm:"primaryKey"`
	Payload []byte
}

func (stateRow) TableName() string { return "states" }

// State returns the named record; nil when it was never written.
func (f *File) State(name string) ([]byte, error) {
	var rows []stateRow
	if err := f.reader.Where("name = ?", name).Limit(1).Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading state %s: %w", name, err)
	}
	if len(rows) == 0 {
		return nil, nil
	}
	return rows[0].Payload, nil
}

// PutState writes the named record.
func (f *File) PutState(name string, payload []byte) error {
	return f.Write(func(w Writer) error { return State{name, payload}.Put(w.DB()) })
}

// Put writes the record.
func (s State) Put(tx *gorm.DB) error {
	if err := Put(tx, &stateRow{Name: s.Name, Payload: s.Payload}); err != nil {
		return fmt.Errorf("writing state %s: %w", s.Name, err)
	}
	return nil
}

// identity returns a random name of the store, made once. Writing it, or when it was last
// opened, also makes sure that there is a write-ahead log from now on.
func (f *File) identity() (string, error) {
	payload, err := f.State("identity")
	if err != nil {
		return "", err
	}
	if payload == nil {
		payload = []byte(rand.Text())
	}
	err = f.db.Transaction(func(tx *gorm.DB) error {
		if err := (State{"identity", payload}).Put(tx); err != nil {
			return err
		}
		return State{"opened", []byte(rand.Text())}.Put(tx)
	})
	if err != nil {
		return "", fmt.Errorf("writing the store's identity: %w", err)
	}
	return string(payload), nil
}

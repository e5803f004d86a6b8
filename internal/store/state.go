package store

import (
	"crypto/rand"
	"fmt"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// State is a small named record of whoever uses the store.
type State struct {
	Name    string
	Payload []byte
}

// State is the named record; nil when it was never written.
func (s *Store) State(name string) ([]byte, error) {
	var rows []stateRow
	if err := s.reader.Where("name = ?", name).Limit(1).Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading state %s: %w", name, err)
	}
	if len(rows) == 0 {
		return nil, nil
	}
	return rows[0].Payload, nil
}

// PutState writes the named record.
func (s *Store) PutState(name string, payload []byte) error {
	if err := put(s.db, &stateRow{Name: name, Payload: payload}); err != nil {
		return fmt.Errorf("writing state %s: %w", name, err)
	}
	return nil
}

// identity is a random name of the store, made once. Writing it, or when it was last
// opened, also makes sure that there is a write-ahead log from now on.
func (s *Store) identity() (string, error) {
	payload, err := s.State("identity")
	if err != nil {
		return "", err
	}
	if payload == nil {
		payload = []byte(rand.Text())
	}
	err = s.db.Transaction(func(tx *gorm.DB) error {
		if err := put(tx, &stateRow{Name: "identity", Payload: payload}); err != nil {
			return err
		}
		return put(tx, &stateRow{Name: "opened", Payload: []byte(rand.Text())})
	})
	if err != nil {
		return "", fmt.Errorf("writing the store's identity: %w", err)
	}
	return string(payload), nil
}

// put writes a row, in the place of one with the same key.
func put(tx *gorm.DB, row any) error {
	return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(row).Error
}

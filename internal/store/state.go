package store

import "fmt"

// State is a small named record of whoever uses the store.
type State struct {
	Name    string
	Payload []byte
}

// State is the named record; nil when it was never written.
func (s *Store) State(name string) ([]byte, error) {
	var rows []stateRow
	if err := s.db.Where("name = ?", name).Limit(1).Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading state %s: %w", name, err)
	}
	if len(rows) == 0 {
		return nil, nil
	}
	return rows[0].Payload, nil
}

package store

import (
	"fmt"
	"log/slog"
	"sync"

	"gorm.io/gorm"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
)

// Store is one open store. All its methods may be used at the same time.
type Store struct {
	db  *gorm.DB
	log *slog.Logger

	// sealing is held by Seal, write by whoever changes the file: Append, Acknowledge,
	// the ends of Seal. They are taken in this order, and before mu.
	sealing, write sync.Mutex

	mu        sync.RWMutex // guards what follows
	catalogue catalogue
	heads     map[place]column.Block // the newest rows
	headRows  int
	frozen    map[place]column.Block // older rows, on their way into chunks
	journal   journalState
	damaged   uint64 // chunks and journal rows that could not be read
}

// place names the rows of one series at one tier.
type place struct {
	series uint32
	tier   rollup.Tier
}

type journalState struct {
	last  uint64 // highest row id
	bytes int
}

// Open opens or creates the store in the file path.
func Open(path string, log *slog.Logger) (*Store, error) {
	db, err := openSQLite(path, log)
	if err != nil {
		return nil, err
	}
	s := &Store{db: db, log: log, heads: map[place]column.Block{}, catalogue: newCatalogue()}
	for _, step := range []func() error{func() error { return migrate(db) }, s.loadCatalogue, s.replayJournal} {
		if err := step(); err != nil {
			s.Close()
			return nil, fmt.Errorf("opening the store %s: %w", path, err)
		}
	}
	return s, nil
}

// Close closes the file. What Append returned for is on disk already.
func (s *Store) Close() error {
	s.write.Lock()
	defer s.write.Unlock()
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return pool.Close()
}

// Damaged is how many chunks and journal rows could not be read and were skipped
// since the store was opened.
func (s *Store) Damaged() uint64 {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.damaged
}

func (s *Store) noteDamage(what string, id uint64, err error) {
	s.log.Error("a damaged row of the store was skipped", "table", what, "id", id, "error", err)
	s.mu.Lock()
	s.damaged++
	s.mu.Unlock()
}

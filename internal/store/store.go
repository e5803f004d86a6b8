package store

import (
	"errors"
	"fmt"
	"log/slog"
	"sync"

	"gorm.io/gorm"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
)

// Store is one open store. All its methods may be used at the same time.
type Store struct {
	db     *gorm.DB // for writing
	reader *gorm.DB
	log    *slog.Logger

	// sealing is held by Seal, write by whoever changes the file: Append, Acknowledge,
	// the ends of Seal. They are taken in this order, and before mu.
	sealing, write sync.Mutex

	mu        sync.RWMutex // guards what follows
	catalogue catalogue
	heads     map[place]column.Block // the newest rows
	headRows  int
	frozen    map[place]column.Block // older rows, on their way into chunks
	journal   journalState
	damaged   uint64    // chunks and journal rows that could not be read
	sealed    sync.Cond // of mu: a seal has ended
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
	s := &Store{log: log, heads: map[place]column.Block{}}
	s.sealed.L = &s.mu
	var err error
	if s.db, s.reader, err = openSQLite(path, log); err != nil {
		s.Close()
		return nil, err
	}
	for _, step := range []func() error{func() error { return migrate(s.db) }, s.loadCatalogue, s.countDamaged, s.replayJournal} {
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
	return errors.Join(closePool(s.reader), closePool(s.db))
}

package store

import (
	"encoding/binary"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"math"
	"slices"
	"sync"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/clock"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
)

// Store is one open store. All its methods may be used at the same time.
type Store struct {
	path   string
	db     *gorm.DB // for writing
	reader *gorm.DB
	log    *slog.Logger
	judge  *clock.Judge

	// sealing is held by Seal, write by whoever changes the file: Append, Define, the ends
	// of Seal. They are taken in this order, and before mu.
	sealing, write sync.Mutex

	// Guarded by write: the highest ids there ever were.
	lastSeries uint32
	nextChunk  uint64
	lastReject uint64
	watermark  *watermark

	mu         sync.RWMutex // guards what follows
	catalogue  catalogue
	tray       map[seriesTier]column.Block // the newest rows
	late       map[uint32]struct{}         // series of which a stretch is late
	orphans    map[series.Path]orphan      // series whose definition was set aside
	trayRows   int
	trayWeight int
	leaving    map[seriesTier]column.Block // older rows, on their way into chunks
	sealedTo   map[seriesTier]int64        // at least the newest time in chunks, where it was asked for
	renewals   uint64                      // how often chunks were written
	journal    journalCounts
	outboxes   map[string]*Outbox
	followers  map[*Follower]struct{}
	damaged    uint64            // rows that could not be read, and what was missing
	troubles   map[string]string // what fails now, by what was being done
	sealed     sync.Cond         // of mu: a seal has ended
	closing    bool
}

type journalCounts struct {
	last     uint64 // highest row id whose rows are in the tray, or were; guarded by mu and write
	next     uint64 // highest id that was tried; guarded by write
	bytes    int
	most     int      // bytes there ever were at a seal; guarded by write
	sketches []Sketch // starts of sketches written since the last seal, as the journal has them
}

// Options configures a store. The zero value will do.
type Options struct {
	Clock clock.Clock   // time.Now
	Away  time.Duration // how long the service may have been switched off; clock.DefaultAway
}

// Open opens or creates the store in the file path.
func Open(path string, log *slog.Logger, options Options) (_ *Store, err error) {
	if options.Clock == nil {
		options.Clock = time.Now
	}
	if options.Away == 0 {
		options.Away = clock.DefaultAway
	}
	s := &Store{
		path: path, log: log, tray: map[seriesTier]column.Block{}, late: map[uint32]struct{}{}, sealedTo: map[seriesTier]int64{},
		outboxes: map[string]*Outbox{}, followers: map[*Follower]struct{}{}, troubles: map[string]string{},
	}
	s.sealed.L = &s.mu
	s.watermark = readWatermark(path)
	s.judge = clock.NewJudge(options.Clock, s.watermark.newest(), options.Away)
	defer func() {
		if err != nil {
			s.abandon()
		}
	}()
	if s.watermark.unreadable != nil {
		return nil, s.watermark.unreadable
	}
	lost, err := s.watermark.inspectLog(path)
	if err != nil {
		return nil, err
	}
	if s.db, s.reader, err = openSQLite(path, log); err != nil {
		return nil, err
	}
	for _, step := range []func() error{func() error { return migrate(s.db) }, s.countDamaged, s.loadCatalogue, s.loadOrphans, s.loadJournalState, s.replayJournal} {
		if err := step(); err != nil {
			return nil, fmt.Errorf("opening the store %s: %w", path, explained(path, err))
		}
	}
	if err := s.begin(lost); err != nil {
		return nil, err
	}
	return s, s.reattach()
}

// begin compares the file with what was written down of it outside, and begins a run.
func (s *Store) begin(lost []string) error {
	identity, err := s.identity()
	if err != nil {
		return err
	}
	lost = append(lost, s.watermark.compare(identity, s.journal.last)...)
	if err := s.watermark.open(); err != nil { // a start that fails must not leave a report behind
		return err
	}
	if err := s.miss(lost); err != nil {
		return err
	}
	s.damaged += uint64(len(lost))
	if s.watermark.Journal > s.journal.last { // no number is used again, and what is missing is said once
		s.journal.last = s.watermark.Journal
		if err := put(s.db, &stateRow{Name: journalState, Payload: binary.AppendUvarint(nil, s.journal.last)}); err != nil {
			return fmt.Errorf("writing the journal's state: %w", err)
		}
	}
	s.journal.next = s.journal.last
	s.judge.Wrote()
	return s.watermark.begin(identity, s.journal.last, s.judge)
}

// loadJournalState reads how far the journal had come at the last seal.
func (s *Store) loadJournalState() error {
	payload, err := s.State(journalState)
	if err != nil {
		return err
	}
	if n, ok := binary.Uvarint(payload); ok > 0 {
		s.journal.last = n
	}
	return nil
}

// Commits is how many commits of readings or summaries were made in all.
func (s *Store) Commits() uint64 {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.journal.last
}

// Path is the store's file.
func (s *Store) Path() string { return s.path }

// Judge says what time it is, and whether that can be believed.
func (s *Store) Judge() *clock.Judge { return s.judge }

// sealedUntil is the newest time in chunks of a series and tier, or later; math.MinInt64
// without any.
func (s *Store) sealedUntil(at seriesTier) (int64, error) {
	s.mu.RLock()
	until, known := s.sealedTo[at]
	before := s.renewals
	s.mu.RUnlock()
	if known {
		return until, nil
	}
	c, err := chunkBefore(s.reader, at, math.MaxInt64)
	if err != nil {
		return 0, err
	}
	until = math.MinInt64
	if c.ID != 0 {
		until = c.LastAt
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.renewals == before { // no chunk was written while we looked
		s.sealedTo[at] = until
	}
	return until, nil
}

// noted keeps an error for Troubles when it says that something is wrong with the store
// as a whole, and returns it.
func (s *Store) noted(doing string, err error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if isCorrupt(err) {
		s.troubles["damage"] = fmt.Sprintf("SQLite finds its file damaged, last when %s: %v; make a copy of the folder, then restore the file from an older copy", doing, err)
	} else {
		s.troubles[doing] = explained(s.path, err).Error()
	}
	return err
}

// resolved forgets the trouble of doing something.
func (s *Store) resolved(doing string) {
	s.mu.RLock()
	_, had := s.troubles[doing]
	s.mu.RUnlock()
	if had {
		s.mu.Lock()
		delete(s.troubles, doing)
		s.mu.Unlock()
	}
}

// Troubles lists the store's present faults, for display.
func (s *Store) Troubles() []string {
	s.mu.RLock()
	defer s.mu.RUnlock()
	var out []string
	for _, doing := range slices.Sorted(maps.Keys(s.troubles)) {
		out = append(out, s.troubles[doing])
	}
	return out
}

// Tidy gives free pages back to the file system, a few at a time.
func (s *Store) Tidy() error {
	s.write.Lock()
	defer s.write.Unlock()
	return s.giveBackPages()
}

// Close closes the file. What Append returned for is on disk already.
func (s *Store) Close() error {
	s.mu.Lock()
	s.closing = true
	s.sealed.Broadcast()
	s.mu.Unlock()
	s.write.Lock()
	defer s.write.Unlock()
	return errors.Join(s.watermark.end(s.journal.last, s.judge), closePool(s.reader), closePool(s.db), s.watermark.close())
}

// abandon closes what a failed Open had opened, and leaves the watermark as it was.
func (s *Store) abandon() {
	_ = errors.Join(closePool(s.reader), closePool(s.db), s.watermark.close()) // what matters is why it failed
}

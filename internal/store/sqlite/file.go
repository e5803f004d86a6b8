package sqlite

import (
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"slices"
	"sync"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nexocumula/internal/clock"
)

// File is the open file of a store. All its methods may be used at the same time.
type File struct {
	path   string
	db     *gorm.DB // for writing
	reader *gorm.DB
	log    *slog.Logger
	judge  *clock.Judge

	write     sync.Mutex // taken by Write only, before any lock of another package
	watermark *watermark // guarded by write
	lost      []string   // found before the file was opened; Begin reports it
	giveBack  int        // pages at the next time; guarded by write
	timing    timing

	mu       sync.Mutex        // guards what follows; nothing else is locked under it
	damaged  uint64            // rows that could not be read, and what was missing
	troubles map[string]string // what fails now, by what was being done
}

// Options configures a file. Migrate is needed; the zero values of the others will do.
type Options struct {
	Clock   clock.Clock   // time.Now
	Away    time.Duration // how long the service may have been switched off; clock.DefaultAway
	Migrate func(db *gorm.DB) error
}

// Open opens or creates a file and brings its tables up to date. Begin has to follow.
func Open(path string, log *slog.Logger, options Options) (_ *File, err error) {
	if options.Clock == nil {
		options.Clock = time.Now
	}
	if options.Away == 0 {
		options.Away = clock.DefaultAway
	}
	f := &File{path: path, log: log, watermark: readWatermark(path), troubles: map[string]string{}}
	f.judge = clock.NewJudge(options.Clock, f.watermark.newest(), options.Away)
	defer func() {
		if err != nil {
			f.Abandon()
		}
	}()
	if f.watermark.unreadable != nil {
		return nil, f.watermark.unreadable
	}
	if f.lost, err = f.watermark.inspectLog(path); err != nil {
		return nil, err
	}
	if f.db, f.reader, err = openPools(path, log); err != nil {
		return nil, err
	}
	if err := options.Migrate(f.db); err != nil {
		return nil, f.Opening(err)
	}
	if err := f.countDamaged(); err != nil {
		return nil, f.Opening(err)
	}
	return f, nil
}

// Opening says of an error that it came up when the file was opened, and what helps.
func (f *File) Opening(err error) error {
	return fmt.Errorf("opening the store %s: %w", f.path, explained(f.path, err))
}

// Begin begins a run: it compares the file, which has so many commits, with what was written
// down of it outside. It returns from which number on commits are counted: no number is used
// again, and what is missing is reported once.
func (f *File) Begin(commits uint64) (last uint64, err error) {
	err = f.Write(func(w Writer) error {
		identity, err := f.identity()
		if err != nil {
			return err
		}
		lost := append(f.lost, f.watermark.compare(identity, commits)...)
		if err := f.watermark.open(); err != nil { // a start that fails must not leave a report behind
			return err
		}
		if err := f.miss(lost); err != nil {
			return err
		}
		f.mu.Lock()
		f.damaged += uint64(len(lost))
		f.mu.Unlock()
		last = max(commits, f.watermark.Journal)
		f.judge.Wrote()
		return f.watermark.begin(identity, last, f.judge)
	})
	return last, err
}

// Writer is the right to change the file. It is valid within the call that it was given to.
type Writer struct{ file *File }

// Write gives the right to change the file to one caller at a time.
func (f *File) Write(change func(w Writer) error) error {
	f.write.Lock()
	defer f.write.Unlock()
	return change(Writer{f})
}

// DB is for single statements, which need no transaction.
func (w Writer) DB() *gorm.DB { return w.file.db }

// Transaction makes all changes, or none. It is on disk when it returns.
func (w Writer) Transaction(change func(tx *gorm.DB) error) error {
	began := time.Now()
	err := w.file.db.Transaction(change)
	w.file.timing.took(time.Since(began), err)
	return err
}

// Committed notes that the commit with a number is on disk.
func (w Writer) Committed(number uint64) {
	w.file.judge.Wrote()
	w.file.watermark.wrote(number, w.file.judge)
}

// Change is a part of a transaction.
type Change func(tx *gorm.DB) error

// Put writes a row, in the place of one with the same key.
func Put(tx *gorm.DB, row any) error {
	return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(row).Error
}

// Reader is for queries. A transaction of it sees the file as it was when it began.
func (f *File) Reader() *gorm.DB { return f.reader }

// Path returns the file's path.
func (f *File) Path() string { return f.path }

// Space returns how many bytes the file and those beside it have, and how many are free on the disk.
func (f *File) Space() (used, free uint64) {
	for _, beside := range []string{"", "-wal", "-watermark"} {
		if info, err := os.Stat(f.path + beside); err == nil {
			used += uint64(info.Size())
		}
	}
	free, _ = roomAt(f.path)
	return used, free
}

// Bytes returns how many bytes the file itself has.
func (f *File) Bytes() uint64 {
	info, err := os.Stat(f.path)
	if err != nil {
		return 0
	}
	return uint64(info.Size())
}

// Disk returns how many bytes are free on the disk, and how many it has; 0 when that is not known.
func (f *File) Disk() (free, size uint64) { return diskOf(f.path) }

// Log takes what is to be logged of the file.
func (f *File) Log() *slog.Logger { return f.log }

// Judge says what time it is, and whether that can be believed.
func (f *File) Judge() *clock.Judge { return f.judge }

// SetTrouble keeps an error for Troubles when it says that something is wrong with the file
// as a whole, and returns it.
func (f *File) SetTrouble(doing string, err error) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if isCorrupt(err) {
		f.troubles["damage"] = fmt.Sprintf("SQLite finds its file damaged, last when %s: %v; make a copy of the folder, then restore the file from an older copy",
			doing, err)
	} else {
		f.troubles[doing] = explained(f.path, err).Error()
	}
	return err
}

// ClearTrouble forgets the trouble of doing something.
func (f *File) ClearTrouble(doing string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.troubles, doing)
}

// Troubles lists the file's present faults, for display.
func (f *File) Troubles() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	var out []string
	for _, doing := range slices.Sorted(maps.Keys(f.troubles)) {
		out = append(out, f.troubles[doing])
	}
	return out
}

// Close closes the file after so many commits.
func (f *File) Close(commits uint64) error {
	return f.Write(func(Writer) error {
		return errors.Join(f.watermark.end(commits, f.judge), closePool(f.reader), closePool(f.db), f.watermark.close())
	})
}

// Abandon closes what a failed start had opened, and leaves the watermark as it was.
func (f *File) Abandon() {
	_ = errors.Join(closePool(f.reader), closePool(f.db), f.watermark.close()) // what matters is why the start failed
}

// Tables returns the models of the tables that this package writes.
func Tables() []any {
	return []any{&Chunk{}, &Patch{}, &Damaged{}, &stateRow{}}
}

package access

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/event"
	"nexocumula/internal/store/sqlite"
)

// The files in the service's folder.
const (
	File    = "access.db"
	keyFile = "access.key"
)

// Book is the records of who may do what. What a request needs is kept in memory; changes
// are on disk, together with their entry in the audit, when they return.
type Book struct {
	db      *gorm.DB
	dir     string
	key     key
	options Options
	delays  *delays
	hashing chan struct{} // bounds the memory that hashing takes
	refused refusals

	ceremonies *waiting[ceremony]
	errands    *waiting[errand]

	mu       sync.RWMutex
	accounts map[string]*account
	sessions map[string]*session // by hash
	tokens   map[string]*token   // by hash
	gateways map[string]*enrolled
	trouble  error            // why the audit could not be written last; nil: all is well
	older    error            // the file is not the one that was there before; nil: it is
	unusable map[string]error // what is there and cannot be used, by what it is
}

// Options configures a book.
type Options struct {
	Now   func() time.Time
	Log   *slog.Logger
	Idle  time.Duration // a session ends when it is not used for so long
	Ends  time.Duration // and in any case after this time
	Audit time.Duration // how long the audit is kept
}

// The defaults of Options.
const (
	DefaultIdle  = 12 * time.Hour
	DefaultEnds  = 30 * 24 * time.Hour
	DefaultAudit = 400 * 24 * time.Hour
)

// Open opens the book of a service's folder, or begins one. A file that is damaged is set
// aside, and one without accounts begun, which is reported: what a gateway collects must not
// wait for its accounts.
func Open(dir string, options Options) (*Book, error) {
	b, err := open(dir, options)
	if err == nil || !sqlite.IsDamaged(err) {
		return b, err
	}
	aside, moved := setAside(filepath.Join(dir, File), options.Now())
	if moved != nil {
		return nil, errors.Join(err, moved)
	}
	event.AccessDamaged.To(options.Log, "file", aside,
		"error", err)
	return open(dir, options)
}

// setAside gives a database another name, with its log.
func setAside(file string, now time.Time) (aside string, err error) {
	aside = file + ".damaged-" + now.UTC().Format("20060102T150405Z")
	for _, part := range []string{"", "-wal", "-shm"} {
		if e := os.Rename(file+part, aside+part); e != nil && !errors.Is(e, fs.ErrNotExist) {
			err = errors.Join(err, e)
		}
	}
	return aside, err
}

func open(dir string, options Options) (_ *Book, err error) {
	b := &Book{
		dir: dir, options: options, delays: newDelays(options.Now), hashing: make(chan struct{}, mostHashing),
		accounts: map[string]*account{}, sessions: map[string]*session{}, tokens: map[string]*token{}, gateways: map[string]*enrolled{}, unusable: map[string]error{},
	}
	b.refused, b.ceremonies, b.errands = newRefusals(), newWaiting[ceremony](options.Now), newWaiting[errand](options.Now)
	if b.db, err = openFile(filepath.Join(dir, File), options.Log); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			b.closeFile()
		}
	}()
	if b.key, err = openKey(filepath.Join(dir, keyFile)); err != nil {
		b.unreadable("key", err) // authenticators cannot be asked
	}
	for _, load := range []func() error{b.loadAccounts, b.loadSessions, b.loadTokens, b.loadGateways} {
		if err := load(); err != nil {
			return nil, fmt.Errorf("reading %s: %w; restore it from a copy, or move it away to begin without accounts",
				filepath.Join(dir, File), err)
		}
	}
	return b, b.compareHead()
}

// unreadable notes what is there and cannot be used.
func (b *Book) unreadable(what string, err error) {
	event.AccessUnusable.To(b.options.Log, "error", err)
	b.unusable[what] = err
}

func (b *Book) now() time.Time { return b.options.Now() }

// By names the author of an action for the audit.
type By struct {
	Who  string
	Kind string // account, token, gateway, provider, code, or machine: whoever has the right to the files
	From string // address
}

// change does something and writes its entry in the audit, both or none; then says what it
// means for what is kept in memory. b.mu is held.
func (b *Book) change(by By, e Entry, do func(tx *gorm.DB) error, then func()) error {
	e.Who, e.Kind, e.From, e.Outcome, e.Times = by.Who, by.Kind, by.From, Done, 1
	var written auditRow
	err := b.db.Transaction(func(tx *gorm.DB) (err error) {
		if err := do(tx); err != nil {
			return err
		}
		written, err = b.add(tx, e)
		return err
	})
	if err != nil {
		return err
	}
	if then != nil {
		then()
	}
	b.wrote(written)
	return nil
}

// Wrong is a mistake of whoever asks.
type Wrong struct{ Code, Text string }

func (w *Wrong) Error() string { return w.Text }

func wrong(code, format string, args ...any) error { return &Wrong{code, fmt.Sprintf(format, args...)} }

const tidyEvery = time.Minute

// Run writes down now and then what was used last, ends what is over, and drops what the
// audit does not keep any more, until ctx ends.
func (b *Book) Run(ctx context.Context) error {
	tick := time.NewTicker(tidyEvery)
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-tick.C:
			b.tidy(n%5 == 4, n%60 == 1)
		case <-ctx.Done():
			b.tidy(true, false)
			return nil
		}
	}
}

func (b *Book) tidy(used, audit bool) {
	b.writeRefusals(used)
	b.endSessions()
	if used {
		if err := b.saveUsed(); err != nil {
			event.AccessUseUnwritten.To(b.options.Log, "error", err)
		}
	}
	if audit {
		if err := b.dropOldAudit(); err != nil {
			event.AuditUndropped.To(b.options.Log, "error", err)
		}
	}
}

// saveUsed writes when and from where sessions, tokens and gateways were used last, of those
// that were since the last time. What is lost of it in a crash only makes them look older.
func (b *Book) saveUsed() error {
	b.mu.RLock()
	type one struct {
		model any
		where string
		name  string
		use   *use
	}
	var all []one
	for hash, s := range b.sessions {
		all = append(all, one{&sessionRow{}, "hash = ?", hash, &s.use})
	}
	for _, t := range b.tokens {
		all = append(all, one{&tokenRow{}, "name = ?", t.row.Name, &t.use})
	}
	for _, g := range b.gateways {
		all = append(all, one{&gatewayRow{}, "name = ?", g.row.Name, &g.use})
	}
	b.mu.RUnlock()
	return b.db.Transaction(func(tx *gorm.DB) error {
		for _, o := range all {
			at, from, fresh := o.use.take()
			if !fresh {
				continue
			}
			if err := tx.Model(o.model).Where(o.where, o.name).Updates(map[string]any{"used": at, "address": from}).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// Trouble returns the book's present fault: that the audit could not be written last, that this
// run began with an older copy, or that a part cannot be used; nil when all is well.
func (b *Book) Trouble() error {
	b.mu.RLock()
	defer b.mu.RUnlock()
	all := []error{b.trouble, b.older}
	for _, what := range slices.Sorted(maps.Keys(b.unusable)) {
		all = append(all, b.unusable[what])
	}
	return errors.Join(all...)
}

// Close closes the file.
func (b *Book) Close() error { return b.closeFile() }

func (b *Book) closeFile() error {
	pool, err := b.db.DB()
	return errors.Join(err, func() error {
		if pool == nil {
			return nil
		}
		return pool.Close()
	}())
}

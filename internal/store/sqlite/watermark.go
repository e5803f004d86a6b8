package sqlite

import (
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"nexocumula/internal/clock"
)

// watermark is a small file beside the store that says how far commits had come. A
// store whose write-ahead log was removed or cut, or that was emptied or replaced by an
// older copy, opens as if nothing had happened; the watermark knows better.
//
// It is written at most every 30 s, so that it costs next to nothing, and exactly when
// the store is closed in order.
type watermark struct {
	path string
	file *os.File
	marked
	trouble string // what is wrong with what it says

	unreadable error     // the file could not be read; whoever starts the service has to see to that
	written    time.Time // when it last was
}

type marked struct {
	Store   string    `json:"store"`   // identity
	Journal uint64    `json:"journal"` // at least so many commits of readings or summaries
	At      time.Time `json:"at"`      // when that was
	LogSize int64     `json:"log"`     // bytes of the write-ahead log then, at least
	Open    bool      `json:"open"`    // the store was not closed since
}

const markEvery = 30 * time.Second

// readWatermark reads the watermark of a store's file; it is empty if there is none.
func readWatermark(path string) *watermark {
	w := &watermark{path: path + "-watermark"}
	text, err := os.ReadFile(w.path)
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ENOTDIR):
	case err != nil:
		w.unreadable = fmt.Errorf("the store's watermark cannot be read: %w; let the account that runs the service read and write it",
			err)
	default:
		var sum uint32
		var body string
		if n, _ := fmt.Sscanf(string(text), "%08x %s", &sum, &body); n != 2 ||
			sum != crc32.Checksum([]byte(body), castagnoli) || json.Unmarshal([]byte(body), &w.marked) != nil {
			w.marked = marked{}
			w.trouble = fmt.Sprintf("%s is damaged, so nothing says whether commits are missing", w.path)
		}
	}
	return w
}

// newest returns when something was last known to be written; zero when nothing is known.
func (w *watermark) newest() time.Time { return w.At }

// inspectLog looks at the write-ahead log before SQLite does, which would leave out
// what it cannot read without a word. An error says that the log could not be read at all, which
// says nothing of what is in it.
func (w *watermark) inspectLog(path string) (lost []string, err error) {
	if w.trouble != "" {
		lost = append(lost, w.trouble)
	}
	if !w.Open {
		return lost, nil
	}
	log := path + "-wal"
	info, err := os.Stat(log)
	if size, statErr := os.Stat(path); statErr != nil || size.Size() == 0 {
		return lost, nil // compare has more to say
	}
	switch {
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("looking for the store's write-ahead log: %w", err)
	case err != nil || info.Size() == 0:
		lost = append(lost,
			fmt.Sprintf("the write-ahead log %s is gone, although the store was not closed: what was committed since it was last emptied is missing, which can be anything up to and after %s",
				log, w.At.UTC().Format(time.RFC3339)))
	case info.Size() < w.LogSize:
		lost = append(lost,
			fmt.Sprintf("the write-ahead log %s was cut from at least %d to %d bytes: what was committed in the rest is missing",
				log, w.LogSize, info.Size()))
	default:
		text, err := brokenLog(log)
		if err != nil {
			return nil, err
		}
		if text != "" {
			lost = append(lost, text)
		}
	}
	return lost, nil
}

// compare says what the file lacks of the commits that the watermark knows of.
func (w *watermark) compare(identity string, journal uint64) []string {
	if w.Store == "" {
		return nil
	}
	since := w.At.UTC().Format(time.RFC3339)
	switch {
	case w.Store != identity && journal == 0:
		return []string{fmt.Sprintf("the store is empty, but %d commits had been made to the one that was here until %s: put its file back from a copy; a new one was begun",
			w.Journal, since)}
	case w.Store != identity:
		return []string{fmt.Sprintf("the store is another than the one that was here until %s, which had %d commits",
			since, w.Journal)}
	case journal < w.Journal:
		return []string{fmt.Sprintf("the store has %d commits, but %d had been made until %s: it is an older copy, or lost its newest part; what was acknowledged in between is missing",
			journal, w.Journal, since)}
	}
	return nil
}

// open opens the file for writing. A new one gets its name only when it is on disk: a power cut leaves none, or
// a whole one.
func (w *watermark) open() (err error) {
	w.file, err = os.OpenFile(w.path, os.O_RDWR, 0)
	if err == nil {
		return nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("opening the store's watermark: %w", err)
	}
	fresh := w.path + "-new"
	if w.file, err = os.OpenFile(fresh, os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600); err != nil {
		return fmt.Errorf("making the store's watermark: %w", err)
	}
	if err := w.put(); err != nil {
		return err
	}
	if err := os.Rename(fresh, w.path); err != nil {
		return fmt.Errorf("making the store's watermark: %w", err)
	}
	return syncFolder(filepath.Dir(w.path))
}

// syncFolder brings the names in a folder to disk.
func syncFolder(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// begin starts a run of the store.
func (w *watermark) begin(identity string, journal uint64, judge *clock.Judge) (err error) {
	w.marked = marked{Store: identity, Journal: journal, Open: true}
	return w.write(judge)
}

// wrote notes a commit, now and then on disk. That it cannot be written must not keep
// commits from being made; it is tried again.
func (w *watermark) wrote(journal uint64, judge *clock.Judge) {
	w.Journal = journal
	if passed := judge.Now().Sub(w.written); passed >= 0 && passed < markEvery {
		return
	}
	if info, err := os.Stat(strings.TrimSuffix(w.path, "-watermark") + "-wal"); err == nil {
		w.LogSize = info.Size()
	}
	_ = w.write(judge)
}

// end notes that the store is closed in order. Its log goes away with that.
func (w *watermark) end(journal uint64, judge *clock.Judge) error {
	if w.file == nil {
		return nil
	}
	w.Journal, w.Open, w.LogSize = journal, false, 0
	return w.write(judge)
}

// write puts the mark down in place: it is smaller than a sector.
func (w *watermark) write(judge *clock.Judge) error {
	w.written, w.At = judge.Now(), judge.Newest()
	return w.put()
}

func (w *watermark) put() error {
	body, err := json.Marshal(w.marked)
	if err != nil {
		return err
	}
	text := fmt.Sprintf("%08x %s", crc32.Checksum(body, castagnoli), body)
	if _, err := w.file.WriteAt(fmt.Appendf(nil, "%-255s\n", text), 0); err != nil {
		return fmt.Errorf("writing the store's watermark: %w", err)
	}
	return w.file.Sync()
}

func (w *watermark) close() error {
	if w == nil || w.file == nil {
		return nil
	}
	return w.file.Close()
}

package supervision

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"nexocumula/internal/event"
)

const (
	runFile     = "run.txt"     // of the run that goes on
	crashFiles  = "crash-*.txt" // of those that crashed
	mostReports = 5
	mostLog     = 16 << 10 // bytes of the log that a report begins with
	mostFile    = 64 << 10 // at which the older lines go
)

// Report has the version of a service and the last lines of its log in a file of its folder, to which a crash adds
// the stacks of all goroutines. It ends with the run, unless that crashes or is killed.
type Report struct {
	version string

	mu    sync.Mutex
	lines []byte      // the newest of the log
	queue chan []byte // of lines for the file; nil before Begin
	ended chan struct{}
	file  *os.File
	size  int // of the file
}

// mostQueued lines wait for the file. A disk that hangs must not make those wait who log.
const mostQueued = 256

// NewReport makes the report of a run. The log is to be written into it as well.
func NewReport(version string) *Report { return &Report{version: version} }

// Write takes a line of the log.
func (r *Report) Write(line []byte) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.lines = append(r.lines, line...)
	if len(r.lines) > 2*mostLog {
		rest := r.lines[len(r.lines)-mostLog:]
		r.lines = append(r.lines[:0], rest[bytes.IndexByte(rest, '\n')+1:]...)
	}
	if r.queue != nil {
		select {
		case r.queue <- bytes.Clone(line):
		default: // a log goes on without its report
		}
	}
	return len(line), nil
}

// keep writes what comes into the file, which begins anew when it has become large.
func (r *Report) keep(queue <-chan []byte) {
	defer close(r.ended)
	for text := range queue {
		if r.size += len(text); r.size > mostFile {
			if r.file.Truncate(0) != nil {
				continue
			}
			r.mu.Lock()
			text = append(r.head(), r.lines...)
			r.mu.Unlock()
			r.size = len(text)
		}
		_, _ = r.file.Write(text) // what cannot be written the store will tell of
	}
}

func (r *Report) head() []byte {
	return fmt.Appendf(nil, "nexocumula %s, process %d\n\n", r.version, os.Getpid())
}

// Begin puts the report into the folder of a service, which no other process uses, and tells of the run before, if that
// did not end by itself.
func (r *Report) Begin(dir string, log *slog.Logger) error {
	path := filepath.Join(dir, runFile)
	if err := tellOfLast(dir, path, log); err != nil {
		return err
	}
	file, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return fmt.Errorf("the report of a crash has no place: %w", err)
	}
	if err := debug.SetCrashOutput(file, debug.CrashOptions{}); err != nil {
		return errors.Join(fmt.Errorf("the report of a crash has no place: %w", err), file.Close())
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.file, r.queue, r.ended = file, make(chan []byte, mostQueued), make(chan struct{})
	r.queue <- append(r.head(), r.lines...)
	go r.keep(r.queue)
	return nil
}

// endsWithin is how long the end of a run waits for the file.
const endsWithin = time.Second

// End says that the run ended by itself.
func (r *Report) End() {
	r.mu.Lock()
	queue := r.queue
	r.queue = nil
	r.mu.Unlock()
	if queue == nil {
		return
	}
	close(queue)
	select {
	case <-r.ended:
		_ = debug.SetCrashOutput(nil, debug.CrashOptions{}) // with nil there is nothing that can fail
		_ = errors.Join(r.file.Close(), os.Remove(r.file.Name()))
	case <-time.After(endsWithin): // the disk hangs; the next start will say that this run was killed
	}
}

// tellOfLast logs how the last run ended, where its report is still there, and keeps that of a crash.
func tellOfLast(dir, path string, log *slog.Logger) error {
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("the report of the last run cannot be read: %w", err)
	}
	why := crashIn(string(text))
	if why == "" {
		event.Cut.To(log)
		return nil
	}
	info, err := os.Stat(path)
	if err != nil {
		return fmt.Errorf("the report of the last run cannot be read: %w", err)
	}
	kept := filepath.Join(dir, strings.Replace(crashFiles, "*", info.ModTime().UTC().Format("20060102T150405Z"), 1))
	if err := os.Rename(path, kept); err != nil {
		return fmt.Errorf("the report of a crash cannot be kept: %w", err)
	}
	event.Crashed.To(log, "why", why, "report", kept)
	return forget(dir)
}

// crashIn returns the first line of what the runtime wrote when the process crashed; "": it did not.
func crashIn(text string) string {
	for line := range strings.Lines(text) {
		for _, begin := range []string{"panic: ", "fatal error: ", "SIGABRT: ", "SIGQUIT: ", "SIGSEGV: ", "unexpected fault address"} {
			if strings.HasPrefix(line, begin) {
				return strings.TrimSpace(line)
			}
		}
	}
	return ""
}

// forget removes all reports but the newest.
func forget(dir string) error {
	all, err := filepath.Glob(filepath.Join(dir, crashFiles))
	if err != nil {
		return err
	}
	slices.SortFunc(all, func(a, b string) int { return cmp.Compare(b, a) }) // their names are their times
	for _, path := range all[min(len(all), mostReports):] {
		if err := os.Remove(path); err != nil {
			return fmt.Errorf("an old report of a crash cannot be removed: %w", err)
		}
	}
	return nil
}

// AbortOnCrash has a crash end the process by a signal, with the stacks of all goroutines. Its exit code would
// otherwise be that of a wrong configuration, after which systemd does not start a service again.
func AbortOnCrash() { debug.SetTraceback("crash") }

package event

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"
)

// Options of a log.
type Options struct {
	JSON     bool
	Level    slog.Level
	Priority bool // each line begins with its priority, as systemd's journal reads it (sd-daemon(3))
}

// NewLog returns a log that writes a line for each event, and counts those that come again and again.
func NewLog(to io.Writer, o Options) *slog.Logger {
	l := &lines{to: to, priority: o.Priority, one: new(oneLine)}
	settings := &slog.HandlerOptions{Level: o.Level}
	if o.JSON {
		l.Handler = slog.NewJSONHandler(&l.one.line, settings)
	} else {
		l.Handler = slog.NewTextHandler(&l.one.line, settings)
	}
	return slog.New(&repeats{Handler: l, seen: &seen{of: map[string]*again{}}})
}

// lines puts the priority before each line.
type lines struct {
	slog.Handler
	to       io.Writer
	priority bool
	one      *oneLine
}

// oneLine is where handlers that were made of one another write the line before it goes out.
type oneLine struct {
	mu   sync.Mutex
	line bytes.Buffer
}

// priorityOf is that of syslog (RFC 5424): 3 error, 4 warning, 6 informational, 7 debug.
func priorityOf(level slog.Level) int {
	switch {
	case level >= slog.LevelError:
		return 3
	case level >= slog.LevelWarn:
		return 4
	case level >= slog.LevelInfo:
		return 6
	}
	return 7
}

func (l *lines) Handle(ctx context.Context, r slog.Record) error {
	l.one.mu.Lock()
	defer l.one.mu.Unlock()
	l.one.line.Reset()
	if l.priority {
		fmt.Fprintf(&l.one.line, "<%d>", priorityOf(r.Level))
	}
	if err := l.Handler.Handle(ctx, r); err != nil {
		return err
	}
	_, err := l.to.Write(l.one.line.Bytes())
	return err
}

func (l *lines) WithAttrs(a []slog.Attr) slog.Handler {
	return &lines{l.Handler.WithAttrs(a), l.to, l.priority, l.one}
}

func (l *lines) WithGroup(name string) slog.Handler {
	return &lines{l.Handler.WithGroup(name), l.to, l.priority, l.one}
}

// repeatsFor is how long an event that comes again is counted instead of written.
const repeatsFor = time.Minute

// mostSeen bounds how many different events are remembered.
const mostSeen = 1000

// repeats writes an event at once, and those that are the same within a minute as one, with their number.
type repeats struct {
	slog.Handler
	seen *seen
	with string // what loggers that were made of it add
}

type seen struct {
	mu sync.Mutex
	of map[string]*again
}

// again is an event that may come again.
type again struct {
	times int
	last  slog.Record
	by    slog.Handler
}

// own are the fields that make an event no other, though they differ from one time to the next.
var own = map[string]bool{"in": true, "took": true, "after": true, "since": true, "times": true}

func (h *repeats) Handle(ctx context.Context, r slog.Record) error {
	name, key := "", h.with
	r.Attrs(func(a slog.Attr) bool {
		if a.Key == Key && a.Value.Kind() == slog.KindString {
			name = a.Value.String()
		}
		if !own[a.Key] {
			key += "\x00" + a.Key + "=" + a.Value.String()
		}
		return true
	})
	if name == "" || name == Audited.Name || name == Refused.Name { // each entry of the audit has a line of its own
		return h.Handler.Handle(ctx, r)
	}
	h.seen.mu.Lock()
	if before, ok := h.seen.of[key]; ok {
		before.times, before.last = before.times+1, r
		h.seen.mu.Unlock()
		return nil
	}
	if len(h.seen.of) < mostSeen {
		h.seen.of[key] = &again{by: h.Handler}
		time.AfterFunc(repeatsFor, func() { h.seen.flush(key) })
	}
	h.seen.mu.Unlock()
	return h.Handler.Handle(ctx, r)
}

// flush writes how often an event came again.
func (s *seen) flush(key string) {
	s.mu.Lock()
	of := s.of[key]
	delete(s.of, key)
	s.mu.Unlock()
	if of == nil || of.times == 0 {
		return
	}
	of.last.AddAttrs(slog.Int("times", of.times))
	_ = of.by.Handle(context.Background(), of.last) // there is nobody to tell
}

// Flush writes how often events came again that are still counted, before a program ends.
func Flush(log *slog.Logger) {
	h, ok := log.Handler().(*repeats)
	if !ok {
		return
	}
	h.seen.mu.Lock()
	keys := slices.Sorted(maps.Keys(h.seen.of))
	h.seen.mu.Unlock()
	for _, key := range keys {
		h.seen.flush(key)
	}
}

func (h *repeats) WithAttrs(a []slog.Attr) slog.Handler {
	return &repeats{h.Handler.WithAttrs(a), h.seen, h.with + fmt.Sprint(a)}
}

func (h *repeats) WithGroup(name string) slog.Handler {
	return &repeats{h.Handler.WithGroup(name), h.seen, h.with + "\x00" + name}
}

// library turns what a library logs into details: what matters of it has events of its own.
type library struct{ slog.Handler }

// OfLibrary returns a log for a library. Its lines have the level debug.
func OfLibrary(log *slog.Logger) *slog.Logger { return slog.New(library{log.Handler()}) }

func (l library) Enabled(ctx context.Context, _ slog.Level) bool {
	return l.Handler.Enabled(ctx, slog.LevelDebug)
}

func (l library) Handle(ctx context.Context, r slog.Record) error {
	r.Level = slog.LevelDebug
	return l.Handler.Handle(ctx, r)
}

func (l library) WithAttrs(a []slog.Attr) slog.Handler { return library{l.Handler.WithAttrs(a)} }

func (l library) WithGroup(name string) slog.Handler { return library{l.Handler.WithGroup(name)} }

// Printer is a log as older libraries want one.
type Printer struct{ Log *slog.Logger }

// Println logs a detail.
func (p Printer) Println(v ...any) { p.Log.Debug(strings.TrimSuffix(fmt.Sprintln(v...), "\n")) }

// Printf logs a detail.
func (p Printer) Printf(format string, v ...any) { p.Log.Debug(fmt.Sprintf(format, v...)) }

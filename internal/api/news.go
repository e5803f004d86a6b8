package api

import (
	"encoding/json"
	"sync"
	"time"

	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
)

// news is what changed at about one time. Each value is encoded once, however many streams tell it.
type news struct {
	at      time.Time
	changed []engine.Changed

	full, brief encodedNews
}

// encodedNews are the changed values in one form.
type encodedNews struct {
	once   sync.Once
	at     []byte
	values [][]byte // as changed; nil of a series without a value
	all    []byte   // an event with all of them
	err    error
}

const (
	eventBegins = "event:now\ndata:{\"at\":"
	eventValues = ",\"values\":["
	eventEnds   = "]}\n\n"
)

// in returns the values in a form.
func (n *news) in(brief bool) *encodedNews {
	of := &n.full
	if brief {
		of = &n.brief
	}
	of.once.Do(func() { of.encode(n, brief) })
	return of
}

func (e *encodedNews) encode(n *news, brief bool) {
	if e.at, e.err = json.Marshal(n.at.UTC()); e.err != nil {
		return
	}
	e.values = make([][]byte, len(n.changed))
	size := len(eventBegins) + len(e.at) + len(eventValues) + len(eventEnds)
	for i, s := range n.changed {
		if s.LastTime == 0 {
			continue
		}
		var value any
		if brief {
			value = briefValue(s.Series)
		} else {
			value = latestValue(s.Series, n.at)
		}
		if e.values[i], e.err = json.Marshal(value); e.err != nil {
			return
		}
		size += len(e.values[i]) + 1
	}
	e.all = e.appendEvent(make([]byte, 0, size), func(int) bool { return true })
}

// appendEvent adds an event with those of the values that are wanted; without any it adds nothing.
func (e *encodedNews) appendEvent(out []byte, wanted func(i int) bool) []byte {
	before, any := len(out), false
	out = append(append(append(out, eventBegins...), e.at...), eventValues...)
	for i, value := range e.values {
		if value == nil || !wanted(i) {
			continue
		}
		if any {
			out = append(out, ',')
		}
		out, any = append(out, value...), true
	}
	if !any {
		return out[:before]
	}
	return append(out, eventEnds...)
}

// event returns the event of a stream of the series that a selector names and its caller may see.
func (n *news) event(room []byte, brief bool, everything bool, sees func(series.Path) bool) ([]byte, error) {
	e := n.in(brief)
	if e.err != nil || everything {
		return e.all, e.err
	}
	return e.appendEvent(room[:0], func(i int) bool { return sees(n.changed[i].Path) }), nil
}

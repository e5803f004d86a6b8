// Package watch shows what is published, topic by topic: how often, how much, what the payloads
// seem to be; and writes the lines of a configuration that would collect it.
package watch

import (
	"slices"
	"strings"
	"sync"
	"time"

	"nexocumula/internal/gateway/payload"
)

// mostTopics bounds what is remembered; topics beyond are only counted.
const mostTopics = 2000

// Topics collects the topics that were heard. It is safe for concurrent use.
type Topics struct {
	mu    sync.Mutex
	begun time.Time
	all   map[string]*topic
	more  map[string]bool // topics beyond
	lost  uint64          // messages of those
}

type topic struct {
	messages, bytes uint64
	retained        bool
	last            []byte
	lastAt          time.Time
	notices         notices
}

// Topic is one of them.
type Topic struct {
	Name     string
	Messages uint64
	Rate     float64 // messages a second, since the watch began
	Bytes    float64 // of a message, on average
	Retained bool    // the broker had kept the last one
	Last     []byte  // the last payload, at most the first 4096 bytes
	LastAt   time.Time
	Guess    payload.Guess
	Notice   Notice
}

// New begins at a time.
func New(now time.Time) *Topics {
	return &Topics{begun: now, all: map[string]*topic{}, more: map[string]bool{}}
}

const mostKept = 4096

// Take notes a message.
func (t *Topics) Take(name string, raw []byte, retained bool, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	of := t.all[name]
	if of == nil {
		if len(t.all) >= mostTopics {
			if t.lost++; len(t.more) < mostTopics {
				t.more[name] = true
			}
			return
		}
		of = &topic{}
		t.all[strings.Clone(name)] = of
	}
	of.messages++
	of.bytes += uint64(len(raw))
	of.retained, of.lastAt = retained, now
	of.last = append(of.last[:0], raw[:min(len(raw), mostKept)]...)
	of.notices.take(name, of.last)
}

// Now returns the topics by name, and how many messages were of topics beyond those that are
// remembered.
func (t *Topics) Now(now time.Time) (out []Topic, lost uint64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	took := max(now.Sub(t.begun).Seconds(), 0.001)
	for name, of := range t.all {
		out = append(out, Topic{
			Name: name, Messages: of.messages, Rate: float64(of.messages) / took, Bytes: float64(of.bytes) / float64(of.messages), Retained: of.retained,
			Last: slices.Clone(of.last), LastAt: of.lastAt, Guess: payload.GuessOf(name, of.last), Notice: of.notices.notice(),
		})
	}
	slices.SortFunc(out, func(a, b Topic) int {
		return slices.Compare(strings.Split(a.Name, "/"), strings.Split(b.Name, "/"))
	})
	return out, t.lost
}

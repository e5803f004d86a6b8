package mqtt

import (
	"context"
	"sync"
	"time"

	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/gateway/sparkplug"
)

// sparks connects a Sparkplug host with what carries its messages; nil is none.
type sparks struct {
	*sparkplug.Host
	counter *source.Counter
	pipe    *pipeline.Pipeline
	began   time.Time // of this connection, which its last will ends

	mu   sync.Mutex
	send func(sparkplug.Message) // nil: not connected
}

func newSparks(name string, settings *sparkplug.Settings, counter *source.Counter, pipe *pipeline.Pipeline) *sparks {
	if settings == nil {
		return nil
	}
	return &sparks{Host: sparkplug.NewHost(name, settings), counter: counter, pipe: pipe, began: time.Now()}
}

func (s *sparks) mine(topic string) bool { return s != nil && sparkplug.Mine(topic) }

// take takes a message in for a delivery, and answers it.
func (s *sparks) take(topic string, body []byte, at int64, into *pipeline.Delivery) {
	got := s.Take(topic, body, at)
	s.counter.Ignored(got.Ignored)
	for _, text := range got.Faults {
		s.counter.Failed("topic "+topic, text)
	}
	s.mu.Lock()
	send := s.send
	s.mu.Unlock()
	if send != nil {
		for _, m := range got.Send {
			go send(m) // it waits for the broker, and what arrives does not
		}
	}
	into.Readings, into.Rejects, into.Ended, into.EndedAt = got.Readings, got.Rejects, got.Ended, at
}

// connected says how to send from now on, and that the host is there.
func (s *sparks) connected(send func(sparkplug.Message)) {
	s.mu.Lock()
	s.send = send
	s.mu.Unlock()
	send(s.State(true, s.began))
}

// will returns the message that the broker publishes when our connection is lost.
func (s *sparks) will() sparkplug.Message { return s.State(false, s.began) }

// qosOf returns as the standard wants it: commands once at most, states at least once.
func qosOf(m sparkplug.Message) byte {
	if m.Retain {
		return 1
	}
	return 0
}

// watch tells again who is there, until ctx ends.
func (s *sparks) watch(ctx context.Context) {
	tick := time.NewTicker(presentEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if !s.counter.Tally().Up {
			continue // what became of them is not known
		}
		if at, err := s.pipe.Arrive(); err == nil {
			got := s.Present(at)
			s.pipe.Submit(&pipeline.Delivery{Readings: got.Readings, Rejects: got.Rejects})
		}
	}
}

package service

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"sync"
	"time"

	"nexocumula/internal/event"
)

// space watches how the disk of the store fills, to tell weeks ahead when it will be full.
type space struct {
	mu      sync.Mutex
	samples []freeSpace // the oldest first
}

// freeSpace is how much of the disk was free.
type freeSpace struct {
	At    time.Time `json:"at"`
	Bytes uint64    `json:"bytes"`
}

const (
	spaceState   = "space"
	spaceEvery   = 24 * time.Hour // a sample
	spaceLook    = time.Hour
	mostSamples  = 9                   // the last week, and a day to begin with
	leastSpan    = 2 * 24 * time.Hour  // that a forecast stands on
	warnsBefore  = 28 * 24 * time.Hour // the disk is full
	fewestFilled = 10 << 20            // bytes in this time; less is no trend
)

func (s *Service) watchSpace(ctx context.Context) error {
	if text, err := s.Store.State(spaceState); err == nil && text != nil {
		var kept []freeSpace
		if json.Unmarshal(text, &kept) == nil { // what cannot be read is measured anew
			s.space.mu.Lock()
			s.space.samples = kept
			s.space.mu.Unlock()
		}
	}
	tick := time.NewTicker(spaceLook)
	defer tick.Stop()
	for {
		if s.Store.Judge().Doubt() == "" {
			_, free := s.Store.Space()
			if text, due := s.space.sample(freeSpace{s.Store.Judge().Now().UTC(), free}); due {
				if err := s.Store.PutState(spaceState, text); err != nil {
					event.SpaceUnkept.To(s.log, "error", err)
				}
			}
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil
		}
	}
}

// sample takes one, when a day has gone by since the last; then all are to be kept.
func (s *space) sample(now freeSpace) (text []byte, due bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.samples = slices.DeleteFunc(s.samples, func(one freeSpace) bool { return one.At.After(now.At) }) // by a clock that was wrong
	if n := len(s.samples); n > 0 && now.At.Sub(s.samples[n-1].At) < spaceEvery {
		return nil, false
	}
	s.samples = append(s.samples, now)
	s.samples = s.samples[max(0, len(s.samples)-mostSamples):]
	text, err := json.Marshal(s.samples)
	return text, err == nil
}

// trouble says when the disk will be full, if that is soon.
func (s *space) trouble(now freeSpace) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.samples) == 0 {
		return ""
	}
	before := s.samples[0]
	span := now.At.Sub(before.At)
	if span < leastSpan || before.Bytes < now.Bytes+fewestFilled {
		return ""
	}
	perDay := float64(before.Bytes-now.Bytes) / (span.Hours() / 24)
	left := time.Duration(min(float64(now.Bytes)/perDay*24*float64(time.Hour), math.MaxInt64/2))
	if left > warnsBefore {
		return ""
	}
	return fmt.Sprintf("the disk will be full in about %.0f days: in %.0f days the free space went from %.0f to %.0f MB; free some, or keep less",
		math.Ceil(left.Hours()/24), span.Hours()/24, float64(before.Bytes)/1e6, float64(now.Bytes)/1e6)
}

// spaceTroubles says when the disk will be full, if that is soon, and what was done about it.
func (s *Service) spaceTroubles() []string {
	_, free := s.Store.Space()
	out := s.room.Troubles()
	if text := s.space.trouble(freeSpace{s.Store.Judge().Now(), free}); text != "" {
		out = append(out, text)
	}
	return out
}

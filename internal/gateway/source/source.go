// Package source is what all ways to collect have in common: how they are configured,
// opened, run, and counted.
package source

import (
	"context"
	"log/slog"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/gap"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/pipeline"
)

// Source collects.
type Source interface {
	// Run collects until ctx ends. An error is of what cannot be put right by waiting.
	Run(ctx context.Context) error
	Tally() Tally
}

// Settings are a source's, checked.
type Settings interface {
	// Open makes the source; Run starts it.
	Open(name string, into *pipeline.Pipeline, log *slog.Logger) Source
}

// Reaching is settings of a source that connects to something.
type Reaching interface {
	Reaches() (address string) // scheme://host:port
}

// Kind returns a way to collect: the key of its part of the configuration, and how that is
// checked. F is the shape of that part.
func Kind[F any](key, says string, check func(at shape.Place, site string, raw F) Settings) config.SourceKind {
	return config.SourceKind{
		Key:   key,
		Says:  says,
		Shape: func() any { return new(F) },
		Check: func(at shape.Place, site string, raw any) any { return check(at, site, *raw.(*F)) },
	}
}

// Reader is a source that can be asked to read now.
type Reader interface {
	// Read reads a group of what it reads, or "" for everything, and waits for it.
	Read(ctx context.Context, group string) (Outcome, error)
}

// Door is a source that devices come to.
type Door interface {
	// Opened is closed once they are let in.
	Opened() <-chan struct{}
}

// Rereader is a source that can read again what arrived once, without side effects: to try it,
// or once the configuration was mended.
type Rereader interface {
	// Reread reads raw bytes of a place, as a reject or a person names it, that arrived at a
	// time in nanoseconds since 1970.
	Reread(place string, raw []byte, at int64) ([]reading.Reading, []reading.Reject)
}

// Looker is a source at which can be seen what is published there.
type Looker interface {
	// Look calls each for everything that is published below a topic filter, collected or not,
	// until ctx ends. An error says why nothing can be seen.
	Look(ctx context.Context, filter string, each func(topic string, payload []byte, retained bool)) error
}

// Checker is a source that can be checked with what it reaches, before it runs.
type Checker interface {
	// Check connects, takes everything in once, or for as long as ctx lasts, and ends.
	Check(ctx context.Context) Check
}

// Check is the result of checking a source.
type Check struct {
	Readings []reading.Reading
	Rejects  []reading.Reject
	Good     []string // what works, in words, besides readings
	Wrong    []Fault  // what does not
}

// Absences is a source that knows when something behind it did not answer.
type Absences interface {
	// Absent returns when what a place of a reading names did not answer, within a span of time.
	Absent(place string, from, to int64) []gap.Episode
}

// Planner is a source that knows before it runs what it will bring, and what that costs its line.
type Planner interface{ Plan() Planned }

// Planned is the forecast that Plan returns.
type Planned struct {
	Requests float64   // an hour, when everything answers
	Busy     float64   // share of the line's time; 0 where a line is so fast that it is of no matter
	Points   []float64 // of each schedule, how many an hour
	Series   []PlannedSeries
}

// PlannedSeries is one that will be read.
type PlannedSeries struct {
	Path  series.Path
	Every time.Duration // 0: only when somebody asks
}

// Outcome is the result of a read.
type Outcome struct {
	Readings, Rejects int
	Failed            []string // places with what went wrong there
}

// NoGroup says that there is no group of that name.
type NoGroup string

func (n NoGroup) Error() string { return string(n) }

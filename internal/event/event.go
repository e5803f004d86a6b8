// Package event has what a service writes into its log: events with stable names and fields, which scripts can wait
// for.
package event

import (
	"context"
	"log/slog"
)

// Event is one kind of line of the log.
type Event struct {
	Name   string
	Level  slog.Level
	Says   string
	Fields []string
}

// Key is the field that holds the name.
const Key = "event"

// To writes the event into a log, with values of its fields.
func (e Event) To(log *slog.Logger, args ...any) {
	log.Log(context.Background(), e.Level, e.Says, append([]any{Key, e.Name}, args...)...)
}

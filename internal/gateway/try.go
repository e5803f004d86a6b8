package gateway

import (
	"log/slog"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
)

// Trial shows what the gateway would make of one arrival.
type Trial struct {
	Readings []pipeline.Trial
	Rejects  []reading.Reject // what its source could not read
}

// NoSuch says that there is no such source; Names are those there are.
type NoSuch struct{ Names []string }

func (NoSuch) Error() string { return "there is no such source" }

// Try sends what arrives at a place of a source its whole way, and stores nothing.
func (g *Gateway) Try(name, place string, raw []byte) (Trial, error) {
	of, names := named[source.Rereader](g, name)
	if of == nil {
		return Trial{}, NoSuch{names}
	}
	readings, rejects := of.Reread(place, raw, time.Now().UnixNano())
	return Trial{g.Pipe.Try(readings), rejects}, nil
}

// Try does the same by a configuration alone.
func Try(settings config.Gateway, name, place string, raw []byte, now time.Time) (Trial, error) {
	var names []string
	for _, s := range settings.Sources {
		of, ok := s.Settings.(source.Settings).Open(s.Name, nil, slog.New(slog.DiscardHandler)).(source.Rereader)
		if !ok {
			continue
		}
		if names = append(names, s.Name); s.Name == name {
			readings, rejects := of.Reread(place, raw, now.UnixNano())
			return Trial{pipeline.TryRules(settings, readings, now.UnixNano()), rejects}, nil
		}
	}
	return Trial{}, NoSuch{names}
}

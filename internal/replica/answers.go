package replica

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"time"

	"nexocumula/internal/core/request"
	"nexocumula/internal/core/series"
	"nexocumula/internal/plain"
	"nexocumula/internal/store/records"
	"nexocumula/internal/wire"
)

// answer says on the wire how far a request has come, see docs/replication.md.
type answer struct {
	ID       string  `cbor:"id"`
	Version  uint64  `cbor:"version"`
	Site     string  `cbor:"site"`
	State    string  `cbor:"state"`
	Progress float64 `cbor:"progress,omitempty"` // 0 to 1
	Detail   string  `cbor:"detail,omitempty"`
	Answer   []byte  `cbor:"answer,omitempty"` // JSON
}

// Longest parts of answers, in bytes.
const (
	LongestDetail = 1000
	LongestAnswer = 256 << 10
)

func answersSince(from records.Requests) func(uint64, int) ([]Record, error) {
	return func(change uint64, most int) ([]Record, error) {
		changed, err := from.Since(change, most)
		if err != nil {
			return nil, err
		}
		out := make([]Record, len(changed))
		for i, r := range changed {
			state := r.State
			if state == request.Waiting { // for a gateway below; it is here
				state = request.Delivered
			}
			text, err := wire.EncodeRecord(answer{r.UID, r.Version, r.Site, string(state), r.Progress, r.Detail, r.Answer})
			if err != nil {
				return nil, fmt.Errorf("encoding the answer to request %s: %w", r.UID, err)
			}
			out[i] = Record{About: r.Site, Change: r.Change, Wire: text, To: r.By}
		}
		return out, nil
	}
}

func readAnswer(into records.Requests, answered func(records.Request)) func(wire.Record, time.Time) (Incoming, error) {
	return func(in wire.Record, _ time.Time) (Incoming, error) {
		var a answer
		if err := wire.DecodeRecord(in, &a); err != nil {
			return Incoming{}, err
		}
		one := records.Request{
			UID: a.ID, Site: a.Site, State: request.State(a.State), Version: a.Version, Progress: a.Progress, Detail: a.Detail, Answer: a.Answer,
		}
		return Incoming{ID: a.ID, About: a.Site, Take: into.Take(one), After: func() { answered(one) }}, a.check()
	}
}

func (a *answer) check() error {
	switch {
	case a.ID == "" || len(a.ID) > 64 || plain.CheckText(a.ID) != nil:
		return fmt.Errorf("its identity has %d bytes; 1 to 64 are possible", len(a.ID))
	case a.Version == 0 || a.Version > 1<<53:
		return fmt.Errorf("its version is %d; whole numbers from 1 are", a.Version)
	case series.CheckLevel(a.Site) != nil:
		return fmt.Errorf("its site %v", series.CheckLevel(a.Site))
	case a.State == string(request.Waiting) || !slices.Contains(request.States, request.State(a.State)):
		return fmt.Errorf("its state is %.40q; %v are possible", a.State, request.States[1:])
	case !(a.Progress >= 0 && a.Progress <= 1) || math.IsNaN(a.Progress):
		return fmt.Errorf("its progress is %v; 0 to 1 are possible", a.Progress)
	case len(a.Detail) > LongestDetail || plain.CheckText(a.Detail) != nil:
		return fmt.Errorf("its detail has %d bytes; at most %d, without control characters, are possible", len(a.Detail), LongestDetail)
	case len(a.Answer) > LongestAnswer || len(a.Answer) > 0 && !json.Valid(a.Answer):
		return fmt.Errorf("its answer has %d bytes; JSON of at most %d is possible", len(a.Answer), LongestAnswer)
	}
	return nil
}

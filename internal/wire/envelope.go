package wire

import (
	"fmt"
	"time"

	"github.com/fxamacker/cbor/v2"
)

// ContentType of an envelope.
const ContentType = "application/cbor"

// Path is where a central takes envelopes.
const Path = "/api/v1/replication"

// Limits that both ends keep to.
const (
	MaxEnvelope = 16 << 20 // bytes of a request
	MaxBatch    = 64 << 20 // bytes of one batch after decompression
	MaxRows     = 200_000  // summaries of one batch
	MaxAllRows  = 500_000  // summaries of all batches of an envelope
)

// Envelope is one request: batches with consecutive sequence numbers, the first of
// them FirstSeq, or none at all as a sign of life.
type Envelope struct {
	Gateway  string   `cbor:"gateway"`
	Epoch    string   `cbor:"epoch"`
	FirstSeq uint64   `cbor:"first_seq"`
	Batches  [][]byte `cbor:"batches"`
	Status   Status   `cbor:"status"`
}

// Status is what a gateway says of itself with every envelope.
type Status struct {
	SentAt       time.Time `cbor:"sent_at" json:"sent_at"`
	Version      string    `cbor:"version" json:"version"`
	Accepted     uint64    `cbor:"accepted" json:"accepted"`           // readings since its start
	Rejected     uint64    `cbor:"rejected" json:"rejected"`           // rejects since its start
	BacklogRows  int       `cbor:"backlog_rows" json:"backlog_rows"`   // summaries waiting, those of this envelope included
	BacklogSince time.Time `cbor:"backlog_since" json:"backlog_since"` // when the oldest of them was made; zero when none waits
}

// Reply is the answer to an envelope, as JSON.
type Reply struct {
	StoredSeq uint64 `json:"stored_seq"` // everything up to here is on disk
}

var (
	encoding = must(cbor.EncOptions{Time: cbor.TimeRFC3339Nano}.EncMode())
	decoding = must(cbor.DecOptions{
		MaxArrayElements: 1 << 20, MaxMapPairs: 1 << 10, MaxNestedLevels: 16, DupMapKey: cbor.DupMapKeyEnforcedAPF,
	}.DecMode())
)

func must[T any](v T, err error) T {
	if err != nil {
		panic(err) // only constants go in
	}
	return v
}

// Encode writes the envelope.
func (e Envelope) Encode() ([]byte, error) { return encoding.Marshal(e) }

// DecodeEnvelope reads an envelope.
func DecodeEnvelope(data []byte) (Envelope, error) {
	var e Envelope
	if err := decoding.Unmarshal(data, &e); err != nil {
		return e, fmt.Errorf("envelope is not as docs/replication.md has it: %w", err)
	}
	if e.Gateway == "" || e.Epoch == "" || len(e.Batches) > 0 && e.FirstSeq == 0 {
		return e, fmt.Errorf("envelope lacks gateway, epoch or first_seq")
	}
	return e, nil
}

// Refusal is why an envelope was not taken, as the "error" of a JSON answer.
type Refusal struct {
	Code      string `json:"code"`
	Message   string `json:"message"`
	Retry     bool   `json:"retry"`                // the same envelope may be taken later
	StoredSeq uint64 `json:"stored_seq,omitempty"` // of CodeGap: continue behind it
}

// Codes of refusals.
const (
	CodeGap       = "gap"       // first_seq is not the next in line
	CodeMalformed = "malformed" // the envelope or a batch in it cannot be read
	CodeToken     = "token"     // no token, or not this gateway's
	CodeBusy      = "busy"      // the store cannot be written now
)

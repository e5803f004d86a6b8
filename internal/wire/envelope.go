package wire

import (
	"fmt"
	"nexocumula/internal/core/series"
	"time"

	"github.com/fxamacker/cbor/v2"
)

// ContentType of an envelope.
const ContentType = "application/cbor"

// CredentialPath is where a gateway gets the credential that follows its present one.
const CredentialPath = Path + "/credential"

// Path is where a central takes envelopes.
const Path = "/api/v1/replication"

// Version of the format.
const Version = 4

// Limits that both ends keep to.
const (
	MaxEnvelope = 4 << 20  // bytes of a request
	MaxBatch    = 32 << 20 // bytes of its batch after decompression
	MaxRows     = 50_000   // summaries of a batch
	MaxTiers    = series.MostWidths
	MaxZones    = 500 // of a status
)

// Envelope is one request: a batch, or none as a sign of life.
type Envelope struct {
	Version int      `cbor:"version"`
	Gateway string   `cbor:"gateway"`
	Session string   `cbor:"session"` // random, of the sending process: two under one name are told apart by it
	Number  uint64   `cbor:"number"`  // of the request in its session; each is higher than the one before
	Acked   Position `cbor:"acked"`   // the last answer to a batch
	Batch   []byte   `cbor:"batch"`
	Status  Status   `cbor:"status"`
}

// Position is how far a central has come with a gateway's batches: in which of its lives,
// and how many it has stored in all. Within one life the count only rises.
type Position struct {
	Life   string `cbor:"life" json:"life"`
	Stored uint64 `cbor:"stored" json:"stored"`
}

// Status is a gateway's report about itself, sent with every envelope.
type Status struct {
	SentAt       time.Time `cbor:"sent_at" json:"sent_at"`
	Version      string    `cbor:"version" json:"version"`
	Accepted     uint64    `cbor:"accepted" json:"accepted"`           // readings since its start
	Rejected     uint64    `cbor:"rejected" json:"rejected"`           // rejects since its start
	BacklogRows  int       `cbor:"backlog_rows" json:"backlog_rows"`   // about how many summaries wait, those of this envelope included
	BacklogSince time.Time `cbor:"backlog_since" json:"backlog_since"` // when the oldest of them was made; zero when none waits

	BacklogRecords int `cbor:"backlog_records,omitempty" json:"backlog_records,omitempty"` // how many records wait, such as notes

	Console string `cbor:"console,omitempty" json:"console,omitempty"` // the address of its console for people at the central

	Zones map[string]string `cbor:"zones,omitempty" json:"zones,omitempty"` // of sites that it sends: IANA names of the zones whose clocks hang there
}

// Reply is the answer to an envelope, as JSON. The batch is on disk but for what Refused
// names.
type Reply struct {
	Position

	// Lost says that the central does not have all that it had acknowledged: its store is
	// an older copy, or new. The gateway has to send everything again.
	Lost bool `json:"lost,omitempty"`

	// Since names other sessions that stored batches after Acked. A gateway that does not
	// know one as its own earlier one was restored from a copy, as another was before: it
	// has to send everything again, for the other may have put older summaries in place.
	Since []string `json:"since,omitempty"`

	// Refused are runs of the batch that were not stored and never will be as they are.
	Refused []RefusedRun `json:"refused,omitempty"`

	// RefusedRecords are records of the batch, in the same way.
	RefusedRecords []RefusedRecord `json:"refused_records,omitempty"`

	// Twin is set while another process sends under the same name.
	Twin string `json:"twin,omitempty"`
}

// RefusedRun is one of them.
type RefusedRun struct {
	Run    int    `json:"run"` // its place in the batch, from 0
	Path   string `json:"path"`
	Reason string `json:"reason"`
}

var (
	encoding = must(cbor.EncOptions{Time: cbor.TimeRFC3339Nano}.EncMode())
	decoding = must(cbor.DecOptions{
		MaxArrayElements: 1 << 17, MaxMapPairs: 1 << 10, MaxNestedLevels: 16, DupMapKey: cbor.DupMapKeyEnforcedAPF,
	}.DecMode())
)

func must[T any](v T, err error) T {
	if err != nil {
		panic(err) // only constants go in
	}
	return v
}

// Encode writes the envelope.
func (e Envelope) Encode() ([]byte, error) {
	e.Version = Version
	return encoding.Marshal(e)
}

const maxName = 200 // bytes of a gateway's, a session's or a life's name

// DecodeEnvelope reads an envelope.
func DecodeEnvelope(data []byte) (Envelope, error) {
	var e Envelope
	if err := decoding.Unmarshal(data, &e); err != nil {
		return e, fmt.Errorf("envelope is not as docs/replication.md has it: %w", err)
	}
	switch {
	case e.Version != Version:
		return e, fmt.Errorf("envelope has version %d; version %d is wanted", e.Version, Version)
	case e.Gateway == "" || e.Session == "" || e.Number == 0:
		return e, fmt.Errorf("envelope lacks gateway, session or number")
	case len(e.Gateway) > maxName || len(e.Session) > maxName || len(e.Acked.Life) > maxName:
		return e, fmt.Errorf("envelope has a name of more than %d bytes", maxName)
	}
	return e, nil
}

// Refusal is why an envelope was not taken: problem details (RFC 9457).
type Refusal struct {
	Title   string `json:"title"`
	Status  int    `json:"status"`
	Message string `json:"detail"`
	Code    string `json:"code"`
	Retry   bool   `json:"retry"` // the same batch may be taken later
}

// Codes of refusals.
const (
	CodeMalformed = "malformed"   // the envelope or its batch cannot be read
	CodeToken     = "token"       // no token, or not this gateway's
	CodeBusy      = "busy"        // the store cannot be written now
	CodeTwin      = "name_in_use" // another process sends under this name
	CodeRevoked   = "revoked"     // the gateway's credential was good, and was revoked
	CodeOld       = "old"         // a later request of the session has come before
)

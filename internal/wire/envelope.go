package wire

import (
	"encoding/json"
	"fmt"
	"time"

	"github.com/fxamacker/cbor/v2"

	"nexocumula/internal/core/series"
	"nexocumula/internal/plain"
)

// ContentType of an envelope.
const ContentType = "application/cbor"

// WaitPath is where a gateway waits until the central asks something of it.
const WaitPath = Path + "/wait"

// LongestWait is how long a central holds a call to WaitPath.
const LongestWait = 50 * time.Second

// Wait is the body of a call to WaitPath, Waited its answer.
type (
	Wait struct {
		Gateway string `json:"gateway"`
	}
	Waited struct {
		Asked bool `json:"asked"` // something is asked of the gateway: send an envelope
	}
)

// CredentialPath is where a gateway gets the credential that follows its present one.
const CredentialPath = Path + "/credential"

// Path is where a central takes envelopes.
const Path = "/api/v1/replication"

// Versions of the format. A sender says which one it speaks, and the lowest that suffices to understand it.
const (
	Version = 5 // the present one
	Oldest  = 4 // the one before, which is understood as well
)

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
	Version int      `cbor:"version"`          // the lowest that a receiver has to understand
	Speaks  int      `cbor:"speaks,omitempty"` // the sender's; 0: that of Version
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

	Every time.Duration `cbor:"every,omitempty" json:"every,omitempty"` // nanoseconds from one envelope to the next, if that is long

	Console string `cbor:"console,omitempty" json:"console,omitempty"` // the address of its console for people at the central

	Zones map[string]string `cbor:"zones,omitempty" json:"zones,omitempty"` // of sites that it sends: IANA names of the zones whose clocks hang there

	Below []Below `cbor:"below,omitempty" json:"below,omitempty"` // of a central: who sends to it
}

// Below is who sends to a central, as that one sees it.
type Below struct {
	Name  string  `cbor:"name" json:"name"`
	Up    bool    `cbor:"up" json:"up"`
	Below []Below `cbor:"below,omitempty" json:"below,omitempty"`
}

// Limits of what is below a central.
const (
	DeepestBelow = 8
	MostBelow    = 1000
)

// Within returns what is below within the limits; the rest is left out.
func Within(all []Below) []Below {
	left := MostBelow
	return within(all, DeepestBelow, &left)
}

func within(all []Below, depth int, left *int) (out []Below) {
	for _, b := range all {
		if depth == 0 || *left == 0 {
			return out
		}
		*left--
		b.Below = within(b.Below, depth-1, left)
		out = append(out, b)
	}
	return out
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

	// Speaks is the version that the central speaks; 0: Oldest.
	Speaks int `json:"speaks,omitempty"`

	// Above names the central and, where they are known, those that it sends to. A sender that finds itself there
	// stands in a loop, and sends no more.
	Above []string `json:"above,omitempty"`

	// Requests are what the gateway is asked for. They come again until it says that it has them.
	Requests []Request `json:"requests,omitempty"`

	// Twin is set while another process sends under the same name.
	Twin string `json:"twin,omitempty"`
}

// Request is what a central asks of a gateway.
type Request struct {
	ID        string          `json:"id"` // the same at each service that it passes
	Site      string          `json:"site"`
	Kind      string          `json:"kind"`
	Author    string          `json:"author"` // account at the central where it was made
	MadeAt    time.Time       `json:"made_at"`
	ExpiresAt time.Time       `json:"expires_at"` // later it must not be carried out
	Version   uint64          `json:"version"`    // the highest of an answer that is known; the next one is higher
	Body      json.RawMessage `json:"body"`       // as the kind wants it
}

// Check says what is wrong with a request.
func (r *Request) Check() error {
	switch {
	case r.ID == "" || len(r.ID) > 64 || plain.CheckText(r.ID) != nil:
		return fmt.Errorf("its identity has %d bytes; 1 to 64 are possible", len(r.ID))
	case series.CheckLevel(r.Site) != nil || len(r.Kind) > 40 || plain.CheckText(r.Kind) != nil:
		return fmt.Errorf("its site %.80q or kind %.40q is none", r.Site, r.Kind)
	case len(r.Author) > maxName || plain.CheckText(r.Author) != nil || len(r.Body) > MaxRequest:
		return fmt.Errorf("its author has %d bytes and its body %d; at most %d and %d are possible", len(r.Author), len(r.Body), maxName,
			MaxRequest)
	}
	return nil
}

// MaxRequest is how long the body of a request may be, in bytes.
const MaxRequest = 64 << 10

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
	e.Version, e.Speaks = Oldest, Version
	return encoding.Marshal(e)
}

const maxName = 200 // bytes of a gateway's, a session's or a life's name

// VersionError says that an envelope needs a version that is not understood here.
type VersionError struct{ Needs int }

func (v *VersionError) Error() string {
	if v.Needs > Version {
		return fmt.Sprintf("the sender needs version %d of replication, and this central understands %d and %d: bring the central up to date",
			v.Needs, Oldest, Version)
	}
	return fmt.Sprintf("the sender speaks version %d of replication, and this central understands %d and %d: bring the sender up to date",
		v.Needs, Oldest, Version)
}

// DecodeEnvelope reads an envelope.
func DecodeEnvelope(data []byte) (Envelope, error) {
	var e Envelope
	if err := decoding.Unmarshal(data, &e); err != nil {
		return e, fmt.Errorf("envelope is not as docs/replication.md has it: %w", err)
	}
	switch {
	case e.Version < Oldest || e.Version > Version:
		return e, &VersionError{e.Version}
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
	CodeMalformed = "malformed"     // the envelope or its batch cannot be read
	CodeToken     = "token"         // no token, or not this gateway's
	CodeBusy      = "busy"          // the store cannot be written now
	CodeVersion   = "other_version" // the sender needs another version of the format
	CodeTwin      = "name_in_use"   // another process sends under this name
	CodeRevoked   = "revoked"       // the gateway's credential was good, and was revoked
	CodeOld       = "old"           // a later request of the session has come before
)

package client

import (
	"math"
	"strconv"
	"time"
)

// Number is a float64 that JSON writes as null when it is not a number, as the
// spread of a single reading is not.
type Number float64

// MarshalJSON writes the shortest decimal that reads back the same, or null.
func (n Number) MarshalJSON() ([]byte, error) {
	f := float64(n)
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return []byte("null"), nil
	}
	form := byte('f')
	if a := math.Abs(f); a != 0 && (a < 1e-6 || a >= 1e21) {
		form = 'e'
	}
	return strconv.AppendFloat(nil, f, form, -1, 64), nil
}

// UnmarshalJSON reads what MarshalJSON writes.
func (n *Number) UnmarshalJSON(text []byte) error {
	if string(text) == "null" {
		*n = Number(math.NaN())
		return nil
	}
	f, err := strconv.ParseFloat(string(text), 64)
	*n = Number(f)
	return err
}

// Series is one series of the catalogue.
type Series struct {
	Path      string     `json:"path"`
	Kind      string     `json:"kind"`
	Unit      string     `json:"unit"`
	FreshFor  string     `json:"fresh_for"` // how long one reading speaks for the series
	FirstSeen *time.Time `json:"first_seen"`
	LastSeen  *time.Time `json:"last_seen"`
}

// SeriesList is the answer of /series.
type SeriesList struct {
	Series []Series `json:"series"`
}

// Value is the latest value of a series.
type Value struct {
	Path  string    `json:"path"`
	Kind  string    `json:"kind"`
	Unit  string    `json:"unit"`
	Time  time.Time `json:"time"`
	Value Number    `json:"value"`
	AgeMS int64     `json:"age_ms"`
	Fresh bool      `json:"fresh"` // no older than the series' fresh_for
}

// Now is the answer of /now, and an event of /stream.
type Now struct {
	At     time.Time `json:"at"`
	Values []Value   `json:"values"`
}

// Windows is the answer of /windows.
type Windows struct {
	From   time.Time       `json:"from"` // widened to whole windows
	To     time.Time       `json:"to"`
	Width  string          `json:"width"`
	Gaps   string          `json:"gaps"`
	Stats  []string        `json:"stats"`
	Series []SeriesWindows `json:"series"`
}

// SeriesWindows are the rows of one series, by column.
type SeriesWindows struct {
	Path     string              `json:"path"`
	Kind     string              `json:"kind"`
	Unit     string              `json:"unit"`
	Tier     string              `json:"tier"`     // what the rows were computed from
	Coverage Number              `json:"coverage"` // share of the range that readings speak for
	Starts   []time.Time         `json:"starts"`
	Values   map[string][]Number `json:"values"` // by stat
	Filled   []bool              `json:"filled"` // the window had no data
	Whole    *Whole              `json:"whole"`  // the range as one window; null without data
}

// Whole is the range as one window.
type Whole struct {
	Count Number    `json:"count"`
	Mean  Number    `json:"mean"`
	Min   Number    `json:"min"`
	MinAt time.Time `json:"min_at"`
	Max   Number    `json:"max"`
	MaxAt time.Time `json:"max_at"`
	SD    Number    `json:"sd"`
	First Number    `json:"first"`
	Last  Number    `json:"last"`
}

// Reject is a reading or message that was refused.
type Reject struct {
	Time   time.Time `json:"time"`
	Source string    `json:"source"`
	Place  string    `json:"place"`
	Reason string    `json:"reason"`
	Raw    []byte    `json:"raw"` // Base64 in JSON
}

// Rejects is the answer of /rejects, newest first.
type Rejects struct {
	Rejects []Reject `json:"rejects"`
}

// Uplinks is the answer of /uplinks.
type Uplinks struct {
	Sending   []Sending   `json:"sending"`   // to centrals above
	Receiving []Receiving `json:"receiving"` // from gateways below
}

// Sending is an uplink as its gateway sees it.
type Sending struct {
	Name           string     `json:"name"`
	Address        string     `json:"address"`
	Up             bool       `json:"up"`
	BacklogRows    int        `json:"backlog_rows"` // summaries not yet acknowledged
	BacklogBatches int        `json:"backlog_batches"`
	BacklogSince   *time.Time `json:"backlog_since"`
	AckedSeq       uint64     `json:"acked_seq"`
	AckedRows      uint64     `json:"acked_rows"`
	AckedAt        *time.Time `json:"acked_at"`
	Failures       uint64     `json:"failures"`
	Refills        uint64     `json:"refills"`
	LastError      string     `json:"last_error"`
}

// Receiving is an uplink as its central sees it.
type Receiving struct {
	Gateway      string     `json:"gateway"`
	Up           bool       `json:"up"`
	HeardAt      *time.Time `json:"heard_at"`
	StoredSeq    uint64     `json:"stored_seq"`
	StoredRows   uint64     `json:"stored_rows"`
	StoredAt     *time.Time `json:"stored_at"`
	BacklogRows  int        `json:"backlog_rows"` // as the gateway last said
	BacklogSince *time.Time `json:"backlog_since"`
	Accepted     uint64     `json:"accepted"` // readings, as the gateway last said
	Rejected     uint64     `json:"rejected"`
	Repeated     uint64     `json:"repeated"` // batches that came twice and changed nothing
	Refused      uint64     `json:"refused"`
	LastError    string     `json:"last_error"`
}

// Health is the answer of /health.
type Health struct {
	Status   string         `json:"status"` // ok, or trouble: see Troubles
	Troubles []string       `json:"troubles"`
	Version  string         `json:"version"`
	Started  time.Time      `json:"started"`
	Series   int            `json:"series"`
	Unsealed int            `json:"unsealed_rows"`
	Damaged  uint64         `json:"damaged_rows"`
	Gateway  *GatewayHealth `json:"gateway"`
	Central  *CentralHealth `json:"central"`
}

// GatewayHealth counts since the start.
type GatewayHealth struct {
	Site     string   `json:"site"`
	Accepted uint64   `json:"accepted"` // readings on disk
	Rejected uint64   `json:"rejected"`
	Sources  []Source `json:"sources"`
}

// Source is how a source stands.
type Source struct {
	Name      string     `json:"name"`
	Form      string     `json:"form"`
	Address   string     `json:"address"`
	Up        bool       `json:"up"`
	Messages  uint64     `json:"messages"`
	Acked     uint64     `json:"acked"`
	Readings  uint64     `json:"readings"`
	Rejects   uint64     `json:"rejects"`
	Errors    uint64     `json:"errors"`
	LastAt    *time.Time `json:"last_at"`
	LastError string     `json:"last_error"`
	Faults    []Fault    `json:"faults"` // by place, those of the last hour
}

// Fault is what goes wrong at one place of a source.
type Fault struct {
	Place   string    `json:"place"`
	Message string    `json:"message"`
	Count   uint64    `json:"count"`
	LastAt  time.Time `json:"last_at"`
}

// CentralHealth names the gateways that may replicate here.
type CentralHealth struct {
	Gateways []string `json:"gateways"`
}

// Error is a refused call.
type Error struct {
	Status  int    `json:"-"`
	Code    string `json:"code"`
	Message string `json:"message"`
}

// Error is the message.
func (e *Error) Error() string { return e.Message }

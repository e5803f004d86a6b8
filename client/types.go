package client

import (
	"encoding/json"
	"math"
	"strconv"
	"time"
)

// Number is a float64 that JSON writes as null when it is not a number, as the
// spread of a single reading is not.
type Number float64

// MarshalJSON writes the shortest decimal that reads back the same, or null.
func (n Number) MarshalJSON() ([]byte, error) { return AppendNumber(nil, float64(n)), nil }

// AppendNumber appends what MarshalJSON of a Number writes.
func AppendNumber(out []byte, f float64) []byte {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return append(out, "null"...)
	}
	if f == 0 {
		return append(out, '0') // also of -0
	}
	form := byte('f')
	if a := math.Abs(f); a != 0 && (a < 1e-6 || a >= 1e21) {
		form = 'e'
	}
	return strconv.AppendFloat(out, f, form, -1, 64)
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

// Numbers are many of them, written in one go.
type Numbers []float64

// MarshalJSON writes what a list of Number would.
func (n Numbers) MarshalJSON() ([]byte, error) {
	out := append(make([]byte, 0, 2+12*len(n)), '[')
	for i, f := range n {
		if i > 0 {
			out = append(out, ',')
		}
		out = AppendNumber(out, f)
	}
	return append(out, ']'), nil
}

// UnmarshalJSON reads what MarshalJSON writes.
func (n *Numbers) UnmarshalJSON(text []byte) error {
	var all []Number
	if err := json.Unmarshal(text, &all); err != nil {
		return err
	}
	*n = make(Numbers, len(all))
	for i, v := range all {
		(*n)[i] = float64(v)
	}
	return nil
}

// Times are many, each RFC 3339 or null, written in one go.
type Times []*time.Time

// MarshalJSON writes what a plain list would.
func (t Times) MarshalJSON() ([]byte, error) {
	out := append(make([]byte, 0, 2+33*len(t)), '[')
	for i, one := range t {
		if i > 0 {
			out = append(out, ',')
		}
		if one == nil {
			out = append(out, "null"...)
			continue
		}
		out = append(one.AppendFormat(append(out, '"'), time.RFC3339Nano), '"')
	}
	return append(out, ']'), nil
}

// Series is one series of the catalogue.
type Series struct {
	Path     string             `json:"path"`
	Kind     string             `json:"kind"`
	Unit     string             `json:"unit"`
	Labels   map[string]string  `json:"labels"`
	FreshFor string             `json:"fresh_for"` // how long one reading speaks for the series
	Wrap     float64            `json:"wrap"`      // of counters: steps until it begins again from 0; 0 when it is not known to
	States   map[string]float64 `json:"states"`    // of states: the value of each name

	Calibration  string     `json:"calibration"`   // how raw values become those of the series, for people; empty: as they come
	Normal       Normal     `json:"normal"`        // what is usual
	Every        string     `json:"every"`         // how often a reading is expected; empty: not known
	EveryLearned bool       `json:"every_learned"` // that was learned from what came
	Source       string     `json:"source"`        // at a gateway, of its last reading since the start
	Place        string     `json:"place"`         // and its topic or register
	Tiers        []string   `json:"tiers"`         // widths of its summaries, from the narrowest to the widest
	Thinning     *Thinning  `json:"thinning"`      // null: all readings that arrive are kept
	FirstSeen    *time.Time `json:"first_seen"`
	LastSeen     *time.Time `json:"last_seen"`
}

// Thinning is how fewer readings are kept than arrive, and what came of it. Summaries are of all.
type Thinning struct {
	Rule       string     `json:"rule"`        // empty: none any more
	Until      *time.Time `json:"until"`       // readings of before it were thinned; null: none yet
	Arrived    uint64     `json:"arrived"`     // of those
	Kept       uint64     `json:"kept"`        // of those
	WorstError Number     `json:"worst_error"` // of any that was not kept, against what those say that were
}

// Normal is the normal range: low and high, null where there is no end; null without any.
type Normal struct {
	Inner []Number `json:"inner"` // outside of it is unusual
	Outer []Number `json:"outer"` // outside of it is critical
}

// Versions is the answer of /series/versions.
type Versions struct {
	Path     string    `json:"path"`
	Versions []Version `json:"versions"` // the newest first
}

// Version is a series' definition as it was from a time on.
type Version struct {
	Since       *time.Time         `json:"since"` // null: from the beginning
	Unit        string             `json:"unit"`
	FreshFor    string             `json:"fresh_for"`
	Every       string             `json:"every"`
	Wrap        float64            `json:"wrap"`
	States      map[string]float64 `json:"states"`
	Calibration string             `json:"calibration"`
	Normal      Normal             `json:"normal"`
	Tiers       []string           `json:"tiers"`
	Thinning    string             `json:"thinning"`
}

// SeriesList is the answer of /series.
type SeriesList struct {
	Series []Series `json:"series"`
	Next   *string  `json:"next"` // the path after which the rest comes; nil when this is all
}

// Value is the latest value of a series.
type Value struct {
	Path  string    `json:"path"`
	Kind  string    `json:"kind"`
	Unit  string    `json:"unit"`
	Time  time.Time `json:"time"`
	Value Number    `json:"value"`
	State string    `json:"state"` // what a state of that value is called; empty: it has no name
	AgeMS int64     `json:"age_ms"`
	Fresh bool      `json:"fresh"` // no older than the series' fresh_for

	Condition string    `json:"condition"` // fresh, stale, or missing: for ten times as long as a reading speaks
	Since     time.Time `json:"since"`     // of the condition
	Standing  string    `json:"standing"`  // normal, unusual or critical, by the series' normal range

	Ended *time.Time `json:"ended,omitempty"` // who measures it said that it goes, and nothing came since
}

// Now is the answer of /now, and an event of /stream.
type Now struct {
	At     time.Time `json:"at"`
	Values []Value   `json:"values"`
	Next   *string   `json:"next,omitempty"` // of /now: the path after which the rest comes
}

// Brief is an event of /stream with brief=true: what changes of a latest value.
type Brief struct {
	At     time.Time    `json:"at"`
	Values []BriefValue `json:"values"`
}

// BriefValue is a latest value without what follows from the series' definition and the clock.
type BriefValue struct {
	Path     string    `json:"path"`
	Unit     string    `json:"unit,omitempty"`
	Time     time.Time `json:"time"`
	Value    Number    `json:"value"`
	State    string    `json:"state,omitempty"`    // what a state of that value is called
	Standing string    `json:"standing,omitempty"` // unusual or critical; none: normal

	Ended *time.Time `json:"ended,omitempty"` // who measures it said that it goes, and nothing came since
}

// Then is the value of a series at a moment.
type Then struct {
	Path  string    `json:"path"`
	Kind  string    `json:"kind"`
	Unit  string    `json:"unit"`
	Time  time.Time `json:"time"`
	Value Number    `json:"value"`
	State string    `json:"state"` // what a state of that value is called; empty: it has no name
	Tier  string    `json:"tier"`  // what it was read from
	Sure  bool      `json:"sure"`  // false: summaries do not tell whether there was a closer reading
}

// Moment is the answer of /moment.
type Moment struct {
	At     time.Time `json:"at"`
	How    string    `json:"how"`
	Values []Then    `json:"values"`

	// Unknown are the paths of series of which only summaries are kept, which do not tell
	// whether there was a reading of that very time.
	Unknown []string `json:"unknown"`
}

// Try is a message or registers to process without storing: the place is a topic, or registers such as
// unit 1, holding 0.
type Try struct {
	Place string `json:"place"`
	Raw   []byte `json:"raw"` // Base64 in JSON; of registers two bytes each, the high one first
}

// Trial is the result of Try.
type Trial struct {
	Readings []TriedReading `json:"readings"`
	Rejects  []Reject       `json:"rejects"` // what the source cannot read
}

// TriedReading shows each step of processing a reading.
type TriedReading struct {
	Series      string        `json:"series"`
	Kind        string        `json:"kind"`
	Time        time.Time     `json:"time"`
	Raw         Number        `json:"raw"` // as the source reads it
	Text        string        `json:"text"`
	RawUnit     string        `json:"raw_unit"`
	Calibration string        `json:"calibration"`
	Value       Number        `json:"value"` // calibrated
	Unit        string        `json:"unit"`
	State       string        `json:"state"`
	Outcome     string        `json:"outcome"` // good, uncertain or rejected
	Rule        string        `json:"rule"`    // that rejects or doubts it
	Reason      string        `json:"reason"`
	Standing    string        `json:"standing"` // in the normal range
	Thinning    string        `json:"thinning"` // by which it would be kept or not, once those after it are known; empty: it would be kept
	Windows     []TriedWindow `json:"windows"`  // that it would count in
}

// TriedWindow is a window of a tier.
type TriedWindow struct {
	Tier  string    `json:"tier"`
	Start time.Time `json:"start"`
}

// Reloaded is the result of reading the configuration again.
type Reloaded struct {
	Applied []string `json:"applied"` // what is as the file has it now
	Restart []string `json:"restart"` // what changed in the file, and counts after a restart only
}

// Uplinks is the answer of /uplinks.
type Uplinks struct {
	Sending   []Sending   `json:"sending"`   // to centrals above
	Receiving []Receiving `json:"receiving"` // from gateways below
}

// Sending is an uplink as its sender sees it.
type Sending struct {
	BacklogAsked int         `json:"backlog_asked"` // about how many readings that the central asked for wait
	Above        []string    `json:"above"`         // names of the central and of those that it sends to
	BytesToday   uint64      `json:"bytes_today"`   // sent and received, with all headers
	BytesMonth   uint64      `json:"bytes_month"`
	BytesLeft    *uint64     `json:"bytes_left"` // that may still go today; nil: there is no limit
	Reconciled   *Reconciled `json:"reconciled"` // the last comparison since the start; nil: none

	Name         string     `json:"name"`
	Address      string     `json:"address"`
	Up           bool       `json:"up"`
	BacklogRows  int        `json:"backlog_rows"` // about how many summaries are not acknowledged yet
	BacklogSince *time.Time `json:"backlog_since"`

	BacklogRecords int    `json:"backlog_records"` // about how many other records are not, such as notes
	RefusedRecords uint64 `json:"refused_records"` // that the central refused since the start

	GivenUp    uint64          `json:"given_up"`     // dropped before they could be sent
	Rate       float64         `json:"rate"`         // summaries acknowledged a second, in the last minute
	CaughtUpAt *time.Time      `json:"caught_up_at"` // when nothing will wait any more, as it goes now
	Arrived    float64         `json:"arrived"`      // the share of what waited because of the last outage that has arrived
	AckedRows  uint64          `json:"acked_rows"`
	AckedAt    *time.Time      `json:"acked_at"`
	Failures   uint64          `json:"failures"`
	Refills    uint64          `json:"refills"`
	LastError  string          `json:"last_error"`
	Twin       string          `json:"twin"` // another process sends under the same name; empty when none does
	Refused    []RefusedSeries `json:"refused"`
}

// RefusedSeries is one that the central will not take; the others go on.
type RefusedSeries struct {
	Path   string    `json:"path"`
	Reason string    `json:"reason"`
	Since  time.Time `json:"since"`
	Rows   int       `json:"rows"` // about how many summaries wait
}

// Receiving is an uplink as its central sees it.
type Receiving struct {
	Gateway      string     `json:"gateway"`
	Console      string     `json:"console"` // address of its console, as it said; "" when it did not
	Up           bool       `json:"up"`
	HeardAt      *time.Time `json:"heard_at"`
	Batches      uint64     `json:"batches"`
	StoredRows   uint64     `json:"stored_rows"`
	StoredAt     *time.Time `json:"stored_at"`
	Rate         float64    `json:"rate"`         // summaries stored a second, in the last minute
	CaughtUpAt   *time.Time `json:"caught_up_at"` // when nothing will wait any more, as it goes now
	Arrived      float64    `json:"arrived"`      // the share of what waited because of the last outage that has arrived
	BacklogRows  int        `json:"backlog_rows"` // as the gateway last said
	BacklogSince *time.Time `json:"backlog_since"`
	Accepted     uint64     `json:"accepted"` // readings, as the gateway last said
	Rejected     uint64     `json:"rejected"`
	Refused      uint64     `json:"refused"`
	LastError    string     `json:"last_error"`
	Twin         string     `json:"twin"`  // another process sends under the same name; empty when none does
	Below        []Below    `json:"below"` // who sends to that one, as it last said
}

// Below is who sends to a central, as that one sees it.
type Below struct {
	Name  string  `json:"name"`
	Up    bool    `json:"up"`
	Below []Below `json:"below"`
}

// Liveness is what /api/v1/health answers to those who have not logged in.
type Liveness struct {
	Status string `json:"status"` // ready; or alive, when the store has a trouble
}

// Health is the answer of /api/v1/health.
type Health struct {
	Status   string            `json:"status"` // ok, or trouble: see Troubles
	Troubles []string          `json:"troubles"`
	Version  string            `json:"version"`
	Started  time.Time         `json:"started"`
	Site     string            `json:"site"`    // of the gateway, or central
	Zone     string            `json:"zone"`    // IANA name of the zone whose clocks hang there
	Zones    map[string]string `json:"zones"`   // of other sites, as far as it is known
	Limited  bool              `json:"limited"` // to what the caller may see; counts of all are left out
	Series   int               `json:"series"`
	Gateway  *GatewayHealth    `json:"gateway"`
	Central  *CentralHealth    `json:"central"`
	Backup   *BackupHealth     `json:"backup"` // null: none is wanted, or the answer is limited

	*StoreCounts // nil where the answer is limited
}

// StoreCounts are of the store as a whole.
type StoreCounts struct {
	Unsealed int    `json:"unsealed_rows"`
	Damaged  uint64 `json:"damaged_chunks"` // and journal rows, set aside
	Dropped  uint64 `json:"dropped_rows"`   // by retention, since the start
}

// GatewayHealth counts since the start.
type GatewayHealth struct {
	Site     string   `json:"site"`
	Accepted uint64   `json:"accepted"` // readings on disk
	Rejected uint64   `json:"rejected"`
	Filling  int      `json:"filling"` // series that get other tiers, and still have those they had
	Sources  []Source `json:"sources"`
}

// Source is the state of a source.
type Source struct {
	Name      string     `json:"name"`
	Form      string     `json:"form"`
	Address   string     `json:"address"`
	Up        bool       `json:"up"`
	Silent    *time.Time `json:"silent_since"` // messages came regularly, and have not come since; null: they come, or are asked for
	Messages  uint64     `json:"messages"`
	Acked     uint64     `json:"acked"`
	Readings  uint64     `json:"readings"`
	Rejects   uint64     `json:"rejects"`
	Ignored   uint64     `json:"ignored"` // values left out: retained ones without a time of their own, and Sparkplug metrics that measure nothing
	Errors    uint64     `json:"errors"`
	LastAt    *time.Time `json:"last_at"`
	LastError string     `json:"last_error"`
	Absent    []string   `json:"absent"` // units behind it that do not answer
	Faults    []Fault    `json:"faults"` // by place, those of the last hour
	Line      *Line      `json:"line"`   // of a source that asks devices
}

// LineFailure is something that goes wrong on a line.
type LineFailure struct {
	What   string    `json:"what"` // such as no answer, wrong checksum, or an exception by the protocol's name
	Count  uint64    `json:"count"`
	LastAt time.Time `json:"last_at"`
}

// Line describes the use of a line on which devices are polled.
type Line struct {
	Busy         float64           `json:"busy"`          // share of the last minute
	AnswerHalf   float64           `json:"answer_half"`   // seconds; half of the recent answers came within
	AnswerNearly float64           `json:"answer_nearly"` // seconds; 99 of 100 came within
	Requests     uint64            `json:"requests"`
	Timeouts     uint64            `json:"timeouts"`
	Garbled      uint64            `json:"garbled"`    // answers with a wrong checksum, or that were none
	Exceptions   map[string]uint64 `json:"exceptions"` // by the protocol's name
	Failures     []LineFailure     `json:"failures"`   // what came instead of an answer, exceptions included
	Groups       []LineGroup       `json:"groups"`
	Learned      []string          `json:"learned"` // what the devices refuse
}

// LineGroup says how well a schedule is kept.
type LineGroup struct {
	Name    string  `json:"name"`
	Every   float64 `json:"every"`   // seconds; 0: on demand
	Late    float64 `json:"late"`    // seconds; 99 of 100 units were read this long after its points, or earlier
	Skipped uint64  `json:"skipped"` // points at which a unit was not read
}

// SourceRead is the result of reading a source on demand.
type SourceRead struct {
	Readings int      `json:"readings"`
	Rejects  int      `json:"rejects"`
	Failed   []string `json:"failed"` // places with what went wrong there
}

// Fault is a failure at one place of a source.
type Fault struct {
	Place   string    `json:"place"`
	Message string    `json:"message"`
	Count   uint64    `json:"count"`
	LastAt  time.Time `json:"last_at"`
}

// BackupHealth is how the backups stand that a service makes by itself.
type BackupHealth struct {
	Folder string     `json:"folder"`
	GoodAt *time.Time `json:"good_at"` // when the newest whole one was taken; null: there is none
	Error  string     `json:"error"`   // why the last attempt failed; empty: it did not
}

// CentralHealth names the gateways that may replicate here.
type CentralHealth struct {
	Gateways []string `json:"gateways"`
}

// Problem is how a refusal is written (RFC 9457).
type Problem struct {
	Title  string `json:"title"` // the status in words
	Status int    `json:"status"`
	Detail string `json:"detail"` // what is wrong, and what to change
	Code   string `json:"code"`
	Type   string `json:"type"` // where the manual says more of the code
}

// Error is a refused call.
type Error struct {
	Status  int    `json:"-"`
	Code    string `json:"code"`
	Message string `json:"message"`
}

// Error returns the message.
func (e *Error) Error() string { return e.Message }

package request

import (
	"time"

	"nexocumula/internal/core/series"
)

// ReadingsBody asks for the readings of series within a time.
type ReadingsBody struct {
	Series []series.Path `json:"series"`
	From   time.Time     `json:"from"`
	To     time.Time     `json:"to"` // not included
	// Live asks for readings as they are made until To as well, which is at most MostLive after the request was made.
	Live bool `json:"live,omitempty"`
}

// MostLive is how long readings are sent as they are made without being asked for again.
const MostLive = 10 * time.Minute

// ReadingsAnswer says which readings were sent.
type ReadingsAnswer struct {
	Series []SentSeries `json:"series"`
}

// SentSeries says for which time all readings of a series were sent.
type SentSeries struct {
	Path     series.Path `json:"path"`
	From     time.Time   `json:"from"`
	To       time.Time   `json:"to"`
	Readings int         `json:"readings"`
}

// ReadBody asks a source to read its devices.
type ReadBody struct {
	Source string `json:"source"`
	Group  string `json:"group,omitempty"`
}

// ReadAnswer says what came of that.
type ReadAnswer struct {
	Readings int      `json:"readings"`
	Rejects  int      `json:"rejects"`
	Failed   []string `json:"failed"` // groups or devices that did not answer
}

// ReconcileBody asks a gateway to compare what it has sent to who asks.
type ReconcileBody struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`   // not included
	Mend bool      `json:"mend"` // send again what differs
}

// ReconcileAnswer says what was found.
type ReconcileAnswer struct {
	Uplink      string       `json:"uplink"`
	Site        string       `json:"site"` // name under which the gateway sends
	At          time.Time    `json:"at"`
	From        time.Time    `json:"from"`
	To          time.Time    `json:"to"`
	Series      int          `json:"series"`
	Equal       uint64       `json:"equal"`   // summaries and sketches that are the same
	Records     uint64       `json:"records"` // notes and gaps that are the same
	Different   int          `json:"different"`
	Waiting     int          `json:"waiting"` // that differ because they wait to be sent
	Mended      int          `json:"mended"`  // that were sent again
	Differences []Difference `json:"differences"`
	Bytes       uint64       `json:"bytes"` // sent and received
	Seconds     float64      `json:"seconds"`
	Text        string       `json:"text"` // in a line, for people
}

// MostDifferences is how many differences an answer names.
const MostDifferences = 500

// Difference is one thing that differs.
type Difference struct {
	What  string `json:"what"` // missing, changed, fuller or extra at the central, or definition
	Path  string `json:"path,omitempty"`
	Tier  string `json:"tier,omitempty"`
	Start string `json:"start,omitempty"` // of the window
	Kind  string `json:"kind,omitempty"`  // of a record
	ID    string `json:"id,omitempty"`
}

// NotesBody has notes that the gateway is to keep.
type NotesBody struct {
	Notes []Note `json:"notes"`
}

// Note is one of them, in a version.
type Note struct {
	ID      string    `json:"id"`
	Version uint64    `json:"version"`
	Removed bool      `json:"removed,omitempty"`
	About   string    `json:"about"`
	At      time.Time `json:"at"`
	Text    string    `json:"text,omitempty"`
	Author  string    `json:"author"`
	Written time.Time `json:"written"`
}

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
}

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

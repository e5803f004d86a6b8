package importer

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Row is a reading as a file has it.
type Row struct {
	Place  string // in the file, for people
	Series string // without the site
	Time   time.Time
	Value  string
	Unit   string
	Err    error // why it cannot be one
}

// Key tells a row of a file from all others.
func (r Row) Key() string { return r.Place + "\x00" + r.Series }

// Reader reads a file.
type Reader interface {
	// Next is the rows of the next record. The error is io.EOF at the end, or says why the
	// rest cannot be read.
	Next() ([]Row, error)
}

// Forms are how files may be written, by what their names end in.
var forms = []struct {
	endings []string
	open    func(io.Reader, Columns) (Reader, error)
}{
	{[]string{".csv", ".tsv", ".txt"}, openCSV},
	{[]string{".json", ".jsonl", ".ndjson", ".senml"}, openSenMLJSON},
	{[]string{".cbor", ".senmlc"}, openSenMLCBOR},
}

// Open reads a file by what its name ends in.
func Open(name string, from io.Reader, columns Columns) (Reader, error) {
	var known []string
	for _, f := range forms {
		known = append(known, f.endings...)
		if slices.Contains(f.endings, strings.ToLower(filepath.Ext(name))) {
			return f.open(from, columns)
		}
	}
	return nil, fmt.Errorf("what %s holds is told by the end of its name; it is none of %s", filepath.Base(name),
		strings.Join(known, ", "))
}

// checked returns a row of which all is there.
func (r Row) checked() Row {
	switch {
	case r.Err != nil:
	case r.Series == "":
		r.Err = errors.New("it names no series")
	case r.Value == "":
		r.Err = errors.New("its value is empty")
	}
	return r
}

// document is rows as a sender's CSV.
func document(rows []Row) (string, error) {
	var out strings.Builder
	w := csv.NewWriter(&out)
	lines := [][]string{{"series", "time", "value", "unit"}}
	for _, r := range rows {
		lines = append(lines, []string{r.Series, r.Time.UTC().Format(time.RFC3339Nano), r.Value, r.Unit})
	}
	err := w.WriteAll(lines)
	return out.String(), err
}

package importer

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"nexocumula/client"
)

// Job is a file to be brought to a gateway.
type Job struct {
	File     string
	Columns  Columns
	Progress string // file that keeps how far it came; "": beside the file
	Again    bool   // from the beginning
	Token    string
	Rate     int // readings a second, at most
	To       *client.Client
	Tell     func(Report) // after each part
}

// Report is the progress of an import.
type Report struct {
	Progress
	Read, Size int64               // bytes
	Wrong      []client.RefusedRow // of this part
}

// A part is what is sent at once.
const (
	mostRows  = 2000
	mostBytes = 200 << 10
)

// Run brings the file, or what is left of it.
func (j Job) Run(ctx context.Context) (p Progress, err error) {
	file, err := os.Open(j.File)
	if err != nil {
		return p, err
	}
	defer file.Close()
	name, err := identity(file, j.Columns)
	if err != nil {
		return p, err
	}
	if j.Progress == "" {
		j.Progress = j.File + ".progress"
	}
	if p, err = loadProgress(j.Progress, name); err != nil {
		return p, err
	}
	if j.Again {
		p = Progress{File: name, path: p.path}
	}
	if p.Finished {
		return p, nil
	}
	about, err := file.Stat()
	if err != nil {
		return p, err
	}
	counted := &counted{from: file}
	reader, err := Open(j.File, counted, j.Columns)
	if err != nil {
		return p, err
	}
	for range p.Records {
		if _, err := reader.Next(); err != nil {
			return p, fmt.Errorf("going on after record %d: %w", p.Records, err)
		}
	}
	for begun := time.Now(); !p.Finished; begun = time.Now() {
		part, readErr := read(reader)
		if readErr != nil && !errors.Is(readErr, io.EOF) && part.records == 0 {
			return p, readErr
		}
		p.Finished = errors.Is(readErr, io.EOF)
		before := p.Accepted + p.Refused
		wrong, err := j.send(ctx, part, &p)
		if err != nil {
			return p, err
		}
		if err := p.save(); err != nil {
			return p, fmt.Errorf("keeping how far it came: %w", err)
		}
		if j.Tell != nil {
			j.Tell(Report{p, counted.n, about.Size(), wrong})
		}
		if err := pace(ctx, begun, p.Accepted+p.Refused-before, j.Rate); err != nil {
			return p, err
		}
	}
	return p, nil
}

// pace waits until so many readings have taken as long as they should.
func pace(ctx context.Context, begun time.Time, readings, rate int) error {
	if rate <= 0 {
		return ctx.Err()
	}
	select {
	case <-time.After(time.Until(begun.Add(time.Duration(readings) * time.Second / time.Duration(rate)))):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// part is the rows of one request.
type part struct {
	records int
	rows    []Row
	wrong   []client.RefusedRow
}

func read(from Reader) (out part, err error) {
	for bytes := 0; len(out.rows)+len(out.wrong) < mostRows && bytes < mostBytes; {
		rows, err := from.Next()
		if err != nil {
			return out, err
		}
		out.records++
		for _, r := range rows {
			if r.Err != nil {
				out.wrong = append(out.wrong, client.RefusedRow{Place: r.Place, Reason: r.Err.Error()})
				continue
			}
			out.rows = append(out.rows, r)
			bytes += len(r.Series) + len(r.Value) + len(r.Unit) + 35
		}
	}
	return out, nil
}

// send brings a part, and says which rows of the file are refused.
func (j Job) send(ctx context.Context, of part, p *Progress) (wrong []client.RefusedRow, err error) {
	wrong = of.wrong
	refused := len(wrong)
	if len(of.rows) > 0 {
		text, err := document(of.rows)
		if err != nil {
			return nil, err
		}
		answer, err := j.To.Push(ctx, j.Token, "text/csv", "", strings.NewReader(text))
		if refusal, ok := errors.AsType[*client.Error](err); ok && refusal.Code == "refused" {
			err = nil // all of them, which the answer names
		}
		if err != nil {
			return nil, err
		}
		for _, row := range answer.Rows {
			place := row.Place
			if line, err := strconv.Atoi(strings.TrimPrefix(row.Place, "line ")); err == nil && line >= 2 &&
				line-2 < len(of.rows) {
				place = of.rows[line-2].Place // the first is the header
			}
			wrong = append(wrong, client.RefusedRow{Place: place, Reason: row.Reason})
		}
		p.Accepted += answer.Accepted
		refused += answer.Refused
	}
	p.Refused += refused
	p.Records += of.records
	return wrong, nil
}

// counted counts what was read.
type counted struct {
	from io.Reader
	n    int64
}

func (c *counted) Read(into []byte) (int, error) {
	n, err := c.from.Read(into)
	c.n += int64(n)
	return n, err
}

// Ask has a gateway say what would become of rows, without storing anything. Answers are in the order of the
// rows; those that cannot be readings are not sent.
func Ask(ctx context.Context, to *client.Client, token string, rows []Row) (becomes map[string][]client.PreviewedRow, refused map[string]string, err error) {
	becomes, refused = map[string][]client.PreviewedRow{}, map[string]string{}
	var sent []Row
	for _, r := range rows {
		if r.Err == nil {
			sent = append(sent, r)
		}
	}
	if len(sent) == 0 {
		return becomes, refused, nil
	}
	text, err := document(sent)
	if err != nil {
		return nil, nil, err
	}
	answer, err := to.PreviewPush(ctx, token, "text/csv", strings.NewReader(text))
	if err != nil {
		return nil, nil, err
	}
	for _, p := range answer.Previews {
		key := sent[lineOf(p.Place, sent)].Key()
		becomes[key] = append(becomes[key], p)
	}
	for _, r := range answer.Rows {
		refused[sent[lineOf(r.Place, sent)].Key()] = r.Reason
	}
	return becomes, refused, nil
}

// lineOf returns which of the rows that were sent a line of their document is.
func lineOf(place string, sent []Row) int {
	line, err := strconv.Atoi(strings.TrimPrefix(place, "line "))
	if err != nil || line < 2 || line-2 >= len(sent) {
		return 0
	}
	return line - 2 // the first is the header
}

// Preview returns the first rows of a file, and what each would become.
func Preview(name string, columns Columns, records int) (out []Row, err error) {
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	reader, err := Open(name, file, columns)
	if err != nil {
		return nil, err
	}
	for range records {
		rows, err := reader.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		out = append(out, rows...)
	}
	return out, nil
}

package modbus

import (
	"context"
	"fmt"
	"time"

	"nexocumula/internal/config/shape"
)

// Type is how registers become a number, for finding out which of them is meant.
type Type struct {
	Name  string
	Words int
	read  func(bits uint64, words int) (float64, error)
}

// Types lists the types of numbers that fill whole registers.
func Types() (out []Type) {
	for _, t := range types {
		if !t.text && t.name != "bool" {
			out = append(out, Type{t.name, t.words, t.read})
		}
	}
	return out
}

// Value returns the number in words, in the given orders; ok is false when they are none.
func (t Type) Value(words []uint16, lowWordFirst, lowByteFirst bool) (v float64, ok bool) {
	v, err := t.read(order{lowWordFirst, lowByteFirst}.bits(words), t.Words)
	return v, err == nil
}

// Tables are the names of Modbus's four, those of bits first.
var Tables = []string{string(coil), string(discrete), string(holding), string(input)}

// IsBits reports whether a table holds bits, and not registers.
func IsBits(name string) bool { return table(name).isBits() }

// Asker asks a line for somebody who wants to find out what is there.
type Asker struct {
	line *line
	lend func(ctx context.Context, use func(*line)) error // nil: the line is our own
	wait time.Duration
}

// Question is one request.
type Question struct {
	Unit         uint8
	Table        string
	First, Count int
}

// Answer holds the words of an answer, or the device's exception. For a device that says
// nothing, or in place of a unit that does not, Silent is true.
type Answer struct {
	Words   []uint16
	Refusal string
	Silent  bool
}

// LineKeys say how a line is reached, as in the configuration of a source.
type LineKeys struct {
	Address string
	Baud    int
	Parity  string
}

// NewAsker makes an asker with a line of its own. Problems of the address come as an error.
func NewAsker(k LineKeys, wait time.Duration) (*Asker, error) {
	file, at, err := shape.Read("address", []byte("{}"), &struct{}{})
	if err != nil {
		return nil, err
	}
	address := serialKeys{Baud: k.Baud, Parity: k.Parity}.check(at, k.Address, nil)
	if err := file.Err(); err != nil {
		return nil, err
	}
	return &Asker{line: &line{address: address}, wait: wait}, nil
}

// Lender is a source whose line somebody else may ask on.
type Lender interface {
	Asker(wait time.Duration) *Asker
}

// Asker asks on the line of a running source, between its own requests.
func (m *poller) Asker(wait time.Duration) *Asker {
	return &Asker{lend: m.lend, wait: wait}
}

// Ask asks once. An error is of the line, not of the device.
func (a *Asker) Ask(ctx context.Context, q Question) (out Answer, err error) {
	r := request{q.Unit, table(q.Table), q.First, q.Count}
	if most := r.table.most(); q.Count < 1 || q.Count > most || q.First < 0 || q.First+q.Count > 1<<16 {
		return out, fmt.Errorf("%d %ss from %d on cannot be asked for at once; 1 to %d, of 0 to 65535, can", q.Count,
			q.Table, q.First, most)
	}
	ask := func(l *line) { out, err = answerOf(l.ask(ctx, r, a.wait)) }
	if a.lend == nil {
		ask(a.line)
		return out, err
	}
	if lent := a.lend(ctx, ask); lent != nil {
		return out, lent
	}
	return out, err
}

func answerOf(words []uint16, err error) (Answer, error) {
	switch {
	case err == nil:
		return Answer{Words: words}, nil
	case isAbsent(err), isTimeout(err):
		return Answer{Silent: true, Refusal: exceptionName(err)}, nil
	case isException(err), isGarbled(err):
		return Answer{Refusal: exceptionName(err)}, nil
	}
	return Answer{}, err
}

// Close ends a line of its own.
func (a *Asker) Close() {
	if a.line != nil {
		a.line.close()
	}
}

// lend gives the line away between two requests, and waits until it is given back.
func (m *poller) lend(ctx context.Context, use func(*line)) error {
	done := make(chan struct{})
	select {
	case m.loans <- func() { use(m.line); close(done) }:
		<-done
		return nil
	case <-m.ended:
		return fmt.Errorf("source %s has ended", m.name)
	case <-ctx.Done():
		return ctx.Err()
	}
}

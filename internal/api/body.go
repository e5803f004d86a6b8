package api

import (
	"bufio"
	"encoding/json"
	"math"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/turns"
)

// column writes a list of n.
func column(to *buffered, n int, one func(out []byte, i int) []byte) {
	to.text("[")
	for i := range n {
		if i > 0 {
			to.room = append(to.room, ',')
		}
		if to.room = one(to.room, i); len(to.room) > 4096 {
			to.spill()
		}
	}
	to.spill()
	to.text("]")
}

// appendNumber writes the shortest decimal that reads back the same, or null.
func appendNumber(out []byte, v float64) []byte {
	if v == math.Trunc(v) && math.Abs(v) < 1e15 {
		return strconv.AppendInt(out, int64(v), 10)
	}
	return client.AppendNumber(out, v)
}

func appendTime(out []byte, ns int64) []byte {
	if ns == 0 {
		return append(out, "null"...)
	}
	out = append(out, '"')
	return append(at(ns).AppendFormat(out, time.RFC3339Nano), '"')
}

func at(ns int64) time.Time { return time.Unix(0, ns).UTC() }

// buffered is an answer's body. The first thing that is written sends its head.
type buffered struct {
	c     gin.ResponseWriter
	to    *bufio.Writer
	room  []byte
	begun bool
	err   error
}

func newBuffered(c gin.ResponseWriter, turn *turns.Turn) *buffered {
	return &buffered{c: c, to: bufio.NewWriterSize(unhurried{c, turn}, 64<<10)}
}

func (b *buffered) open(kind string) {
	b.begun = true
	b.c.Header().Set("Content-Type", kind)
	b.c.WriteHeader(200)
}

// Write is for writers of other forms.
func (b *buffered) Write(data []byte) (int, error) {
	b.add(data)
	return len(data), b.err
}

func (b *buffered) add(data []byte) {
	if b.err == nil {
		_, b.err = b.to.Write(data)
	}
}

func (b *buffered) text(s string) {
	if b.err == nil {
		_, b.err = b.to.WriteString(s)
	}
}

// spill moves what was appended to room on.
func (b *buffered) spill() {
	b.add(b.room)
	b.room = b.room[:0]
}

func (b *buffered) flush() error {
	if b.err == nil {
		b.err = b.to.Flush()
	}
	return b.err
}

// endJSON ends the list that an answer is, and the answer; with a cause it says why the rest is
// missing.
func (b *buffered) endJSON(cause *client.Error) error {
	b.text("]")
	if cause != nil {
		said, err := json.Marshal(cause)
		if err != nil {
			return err
		}
		b.text(`,"error":`)
		b.add(said)
	}
	b.text("}\n")
	return b.flush()
}

package modbus

import (
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/simonvetter/modbus"

	"nexocumula/internal/gateway/source"
)

// What else than an answer comes back, for people. Exceptions have the protocol's names.
const (
	noAnswer   = "no answer"
	checksum   = "wrong checksum"
	cutShort   = "answer cut short"
	malformed  = "malformed answer"
	otherUnit  = "answer of another unit"
	otherAsked = "answer to another request"
	closed     = "connection closed"
)

// failureOf names what became of a request; "" for an answer.
func failureOf(err error) string {
	switch {
	case err == nil:
		return ""
	case isException(err):
		return exceptionName(err)
	case isTimeout(err):
		return noAnswer
	case errors.Is(err, modbus.ErrBadCRC):
		return checksum
	case errors.Is(err, modbus.ErrShortFrame), errors.Is(err, io.ErrUnexpectedEOF):
		return cutShort
	case errors.Is(err, modbus.ErrBadUnitId):
		return otherUnit
	case isGarbled(err):
		return malformed
	case isClosed(err):
		return closed
	}
	return fmt.Sprintf("%v", err)
}

// isClosed reports whether the device ended the connection instead of answering.
func isClosed(err error) bool {
	return errors.Is(err, io.EOF) || errors.Is(err, os.ErrClosed) || errors.Is(err, syscall.ECONNRESET) ||
		errors.Is(err, syscall.EPIPE)
}

// failures counts what went wrong, by its name.
type failures map[string]source.Failure

func (f failures) add(what string, now time.Time) {
	if what == "" || len(f) >= mostFailures && f[what].Count == 0 {
		return
	}
	f[what] = source.Failure{What: what, Count: f[what].Count + 1, LastAt: now}
}

// mostFailures is the most kinds of failures that a line counts; further kinds are left out.
const mostFailures = 50

func (f failures) list() (out []source.Failure) {
	for _, one := range f {
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b source.Failure) int { return strings.Compare(a.What, b.What) })
	return out
}

// overheard is a log of the library, which drops answers to other requests without another word.
type overheard func()

func (o overheard) Write(line []byte) (int, error) {
	if strings.Contains(string(line), "unexpected transaction id") {
		o()
	}
	return len(line), nil
}

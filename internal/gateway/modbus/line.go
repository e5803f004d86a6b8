package modbus

import (
	"context"
	"errors"
	"io"
	"log"
	"slices"
	"time"

	"github.com/simonvetter/modbus"
)

// line is one connection that units answer on. It is opened when it is needed.
type line struct {
	client *modbus.ModbusClient
	open   bool
}

func newLine(address string, timeout time.Duration) (*line, error) {
	client, err := modbus.NewClient(&modbus.ClientConfiguration{URL: address, Timeout: timeout, Logger: log.New(io.Discard, "", 0)})
	return &line{client: client}, err
}

// ask is the words of a read; bits come as words of 0 and 1. A connection that the
// device has closed since the last time, as many do when nothing happens, is opened again
// and the question asked once more.
func (l *line) ask(ctx context.Context, r read) ([]uint16, error) {
	reused := l.open
	if err := l.connect(); err != nil {
		return nil, &noLine{err}
	}
	words, err := l.request(r)
	if err == nil || isException(err) {
		return words, err
	}
	l.close() // whatever still comes could be taken for the answer to another question
	if !reused || isTimeout(err) || ctx.Err() != nil {
		return nil, err
	}
	if err := l.connect(); err != nil {
		return nil, &noLine{err}
	}
	words, err = l.request(r)
	if err != nil && !isException(err) {
		l.close()
	}
	return words, err
}

// noLine says that there is no connection, so that no unit can be asked.
type noLine struct{ error }

func (n *noLine) Unwrap() error { return n.error }

func (l *line) connect() error {
	if l.open {
		return nil
	}
	if err := l.client.Open(); err != nil {
		return err
	}
	l.open = true
	return nil
}

func (l *line) close() {
	if l.open {
		_ = l.client.Close() // nothing is written over it
		l.open = false
	}
}

func (l *line) request(r read) ([]uint16, error) {
	if err := l.client.SetUnitId(r.unit); err != nil {
		return nil, err
	}
	switch r.table {
	case coil:
		bits, err := l.client.ReadCoils(r.address, r.count)
		return bitWords(bits), err
	case discrete:
		bits, err := l.client.ReadDiscreteInputs(r.address, r.count)
		return bitWords(bits), err
	case input:
		return l.client.ReadRegisters(r.address, r.count, modbus.INPUT_REGISTER)
	default:
		return l.client.ReadRegisters(r.address, r.count, modbus.HOLDING_REGISTER)
	}
}

func bitWords(bits []bool) []uint16 {
	words := make([]uint16, len(bits))
	for i, bit := range bits {
		if bit {
			words[i] = 1
		}
	}
	return words
}

var exceptions = []error{
	modbus.ErrIllegalFunction, modbus.ErrIllegalDataAddress, modbus.ErrIllegalDataValue, modbus.ErrServerDeviceFailure,
	modbus.ErrAcknowledge, modbus.ErrServerDeviceBusy, modbus.ErrMemoryParityError, modbus.ErrGWPathUnavailable, modbus.ErrGWTargetFailedToRespond,
}

// isException reports whether an answer came, and it was no.
func isException(err error) bool {
	return slices.ContainsFunc(exceptions, func(exception error) bool { return errors.Is(err, exception) })
}

// isAbsent reports whether a serial gateway answered in place of a unit that does not
// (Modbus Application Protocol 1.1b3, 7: exceptions 0x0A and 0x0B).
func isAbsent(err error) bool {
	return errors.Is(err, modbus.ErrGWPathUnavailable) || errors.Is(err, modbus.ErrGWTargetFailedToRespond)
}

// isTooMuch reports whether the device refuses what was asked for as a whole, be it too
// much at once or an address it does not have. Devices disagree which exception that is.
func isTooMuch(err error) bool {
	return errors.Is(err, modbus.ErrIllegalDataAddress) || errors.Is(err, modbus.ErrIllegalDataValue)
}

func isTimeout(err error) bool { return errors.Is(err, modbus.ErrRequestTimedOut) }

package modbus

import (
	"context"
	"errors"
	"os"
	"slices"
	"time"

	"github.com/simonvetter/modbus"
)

// line is one connection that units answer on. It is opened when it is needed.
type line struct {
	address address
	client  *modbus.ModbusClient
	waits   time.Duration // how long the client waits for answers
	foreign func()        // nil; or told of an answer to another request than the last
}

// request is one, to one unit.
type request struct {
	unit         uint8
	table        table
	first, count int
}

// ask returns the words of an answer; bits come as words of 0 and 1. A connection that the
// device has closed since the last time, as many do when nothing happens, is opened again
// and the question asked once more; so it is when an answer was garbled.
func (l *line) ask(ctx context.Context, r request, wait time.Duration) (words []uint16, err error) {
	reused := l.client != nil && l.waits == wait
	for range 2 {
		if err := l.connect(wait); err != nil {
			return nil, &noLine{err}
		}
		words, err = l.request(r)
		if err == nil || isException(err) {
			return words, err
		}
		l.close() // whatever still comes could be taken for the answer to another question
		if ctx.Err() != nil || isTimeout(err) || !reused && !isGarbled(err) {
			break
		}
	}
	return nil, err
}

// noLine says that there is no connection, so that no unit can be asked.
type noLine struct{ error }

func (n *noLine) Unwrap() error { return n.error }

func (l *line) connect(wait time.Duration) error {
	if l.client != nil && l.waits == wait {
		return nil
	}
	l.close()
	client, err := l.address.client(wait, l.foreign)
	if err != nil {
		return err
	}
	if err := client.Open(); err != nil {
		return err
	}
	l.client, l.waits = client, wait
	return nil
}

func (l *line) close() {
	if l.client != nil {
		_ = l.client.Close() // nothing is written over it
		l.client = nil
	}
}

func (l *line) request(r request) ([]uint16, error) {
	if err := l.client.SetUnitId(r.unit); err != nil {
		return nil, err
	}
	first, count := uint16(r.first), uint16(r.count)
	switch r.table {
	case coil:
		bits, err := l.client.ReadCoils(first, count)
		return bitWords(bits), err
	case discrete:
		bits, err := l.client.ReadDiscreteInputs(first, count)
		return bitWords(bits), err
	case input:
		return l.client.ReadRegisters(first, count, modbus.INPUT_REGISTER)
	default:
		return l.client.ReadRegisters(first, count, modbus.HOLDING_REGISTER)
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

func isOf(err error, these ...error) bool {
	return slices.ContainsFunc(these, func(one error) bool { return errors.Is(err, one) })
}

// isException reports whether an answer came, and it was no.
func isException(err error) bool { return isOf(err, exceptions...) }

// isAbsent reports whether a serial gateway answered in place of a unit that does not
// (Modbus Application Protocol 1.1b3, 7: exceptions 0x0A and 0x0B).
func isAbsent(err error) bool {
	return isOf(err, modbus.ErrGWPathUnavailable, modbus.ErrGWTargetFailedToRespond)
}

// isRefusal reports whether the device refuses what was asked for, be it too much at once,
// an address it does not have, or a table. Devices disagree which exception that is.
func isRefusal(err error) bool {
	return isOf(err, modbus.ErrIllegalDataAddress, modbus.ErrIllegalDataValue, modbus.ErrIllegalFunction)
}

func isTimeout(err error) bool {
	return errors.Is(err, modbus.ErrRequestTimedOut) || errors.Is(err, os.ErrDeadlineExceeded)
}

// isGarbled reports whether something came that is no answer: noise, or two that talk at
// the same time.
func isGarbled(err error) bool {
	return isOf(err, modbus.ErrBadCRC, modbus.ErrShortFrame, modbus.ErrProtocolError, modbus.ErrBadUnitId,
		modbus.ErrUnexpectedParameters)
}

// exceptionName returns the protocol's name for an exception.
func exceptionName(err error) string {
	for _, one := range exceptions {
		if errors.Is(err, one) {
			return one.Error()
		}
	}
	return err.Error()
}

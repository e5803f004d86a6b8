package source

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"log"
	"log/slog"
	"time"

	"github.com/simonvetter/modbus"

	"nexocumula/internal/config"
	"nexocumula/internal/core/decode"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/gateway/pipeline"
)

// Modbus polls the registers of a device over Modbus TCP on a schedule.
type Modbus struct {
	counter
	settings config.Modbus
	reads    []read
	arrival  arrival
	pipe     *pipeline.Pipeline
	log      *slog.Logger
	client   *modbus.ModbusClient
	open     bool
}

// NewModbus makes a poller; Run polls.
func NewModbus(name string, settings config.Modbus, pipe *pipeline.Pipeline, logger *slog.Logger) *Modbus {
	m := &Modbus{settings: settings, reads: planReads(settings.Registers), pipe: pipe, log: logger.With("source", name)}
	m.tally = Tally{Name: name, Form: "modbus", Address: settings.Address}
	return m
}

// Run polls until ctx ends. A poll that takes longer than the schedule allows is
// noted, and the next begins at the next point of the schedule.
func (m *Modbus) Run(ctx context.Context) error {
	client, err := modbus.NewClient(&modbus.ClientConfiguration{
		URL: m.settings.Address, Timeout: m.settings.Timeout, Logger: log.New(io.Discard, "", 0),
	})
	if err != nil {
		return fmt.Errorf("source %s: %w", m.tally.Name, err)
	}
	m.client = client
	defer m.close()
	tick := time.NewTicker(m.settings.Every)
	defer tick.Stop()
	for {
		begun := time.Now()
		m.poll(ctx)
		if took := time.Since(begun); took > m.settings.Every {
			m.failed(m.settings.Address, fmt.Sprintf("a poll took %s, longer than every: %s allows", took.Round(time.Millisecond), m.settings.Every))
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil
		}
	}
}

// poll reads everything once.
func (m *Modbus) poll(ctx context.Context) {
	answered, before := false, m.Tally()
	silent := map[uint8]bool{} // units that kept us waiting once are not asked again in this poll
	for _, r := range m.reads {
		if ctx.Err() != nil {
			return
		}
		if silent[r.unit] {
			continue
		}
		if err := m.connect(); err != nil {
			m.failed(m.settings.Address, fmt.Sprintf("connecting: %v", err))
			break
		}
		ok, err := m.pollRead(r)
		answered = answered || ok
		if err != nil {
			// Whatever still comes on this connection could be taken for the answer
			// to another question: the next unit gets a new one.
			m.failed(r.String(), err.Error())
			m.close()
			silent[r.unit] = true
		}
	}
	m.up(answered)
	if !answered && (before.Up || before.Errors == 0) {
		m.log.Warn("the device does not answer; polling goes on", "error", m.Tally().LastError)
	}
}

// pollRead does one read. When the device refuses it as a whole, its values are read
// one by one, so that one wrong address does not hide its neighbours. The error is
// set only when the connection is of no more use.
func (m *Modbus) pollRead(r read) (ok bool, err error) {
	words, err := m.request(r)
	if err == nil {
		m.deliver(r, words)
		return true, nil
	}
	if !isException(err) {
		return false, err
	}
	if len(r.registers) == 1 {
		m.failed(r.String(), fmt.Sprintf("the device answers %q", err))
		return true, nil
	}
	for _, single := range r.split() {
		if _, err := m.pollRead(single); err != nil {
			return false, err
		}
	}
	return true, nil
}

// isException reports whether the device answered, and said no.
func isException(err error) bool {
	for _, exception := range []error{
		modbus.ErrIllegalFunction, modbus.ErrIllegalDataAddress, modbus.ErrIllegalDataValue, modbus.ErrServerDeviceFailure,
		modbus.ErrAcknowledge, modbus.ErrServerDeviceBusy, modbus.ErrMemoryParityError, modbus.ErrGWPathUnavailable, modbus.ErrGWTargetFailedToRespond,
	} {
		if errors.Is(err, exception) {
			return true
		}
	}
	return false
}

// request asks the device for the words of a read; bits come as words of 0 and 1.
func (m *Modbus) request(r read) ([]uint16, error) {
	if err := m.client.SetUnitId(r.unit); err != nil {
		return nil, err
	}
	switch r.table {
	case config.Coil:
		bits, err := m.client.ReadCoils(r.address, r.count)
		return bitWords(bits), err
	case config.Discrete:
		bits, err := m.client.ReadDiscreteInputs(r.address, r.count)
		return bitWords(bits), err
	case config.Input:
		return m.client.ReadRegisters(r.address, r.count, modbus.INPUT_REGISTER)
	default:
		return m.client.ReadRegisters(r.address, r.count, modbus.HOLDING_REGISTER)
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

// deliver decodes the words of a read and hands its readings on.
func (m *Modbus) deliver(r read, words []uint16) {
	at := m.arrival.next()
	d := &pipeline.Delivery{Done: func(err error) {
		if err == nil {
			m.acked()
		}
	}}
	for _, reg := range r.registers {
		first := int(reg.Address - r.address)
		own := words[first : first+reg.Type.Words()]
		from := &reading.Origin{Source: m.tally.Name, Place: place(reg), Raw: bigEndian(own)}
		raw, err := decode.ReadWords(own, reg.Type, reg.WordOrder)
		if err != nil {
			d.Rejects = append(d.Rejects, from.Reject(at, err.Error()))
			continue
		}
		d.Readings = append(d.Readings, reading.Reading{Path: reg.Series, Time: at, Value: reg.Calibrate.Apply(raw), From: from})
	}
	m.arrived(len(d.Readings), len(d.Rejects))
	m.pipe.Submit(d)
}

func bigEndian(words []uint16) []byte {
	var out []byte
	for _, w := range words {
		out = binary.BigEndian.AppendUint16(out, w)
	}
	return out
}

func (m *Modbus) connect() error {
	if m.open {
		return nil
	}
	if err := m.client.Open(); err != nil {
		return err
	}
	m.open = true
	return nil
}

func (m *Modbus) close() {
	if m.open {
		_ = m.client.Close() // nothing is written over it
		m.open = false
	}
}

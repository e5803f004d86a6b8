package modbus

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/plain"
)

// poller polls the registers of the units behind one address over Modbus TCP.
type poller struct {
	source.Counter
	name     string
	settings settings
	plan     *plan
	schedule *schedule
	line     *line
	pipe     *pipeline.Pipeline
	log      *slog.Logger
}

func open(name string, settings settings, pipe *pipeline.Pipeline, logger *slog.Logger) *poller {
	m := &poller{name: name, settings: settings, plan: newPlan(settings.registers), schedule: newSchedule(settings.every), pipe: pipe, log: logger.With("source", name)}
	m.Change(func(t *source.Tally) { *t = source.Tally{Name: name, Form: "modbus", Address: settings.address} })
	return m
}

// Run polls until ctx ends. A poll that takes longer than the schedule allows is
// noted, and the next begins at the next point of the schedule.
func (m *poller) Run(ctx context.Context) (err error) {
	if m.line, err = newLine(m.settings.address, m.settings.timeout); err != nil {
		return fmt.Errorf("source %s: %w", m.name, err)
	}
	defer func() { m.line.close() }()
	tick := time.NewTicker(m.settings.every)
	defer tick.Stop()
	for {
		begun := time.Now()
		m.poll(ctx)
		if took := time.Since(begun); took > m.settings.every {
			m.Failed(m.settings.address, fmt.Sprintf("a poll took %s, longer than every: %s allows", took.Round(time.Millisecond), m.settings.every))
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil
		}
	}
}

// poll reads once all that is due.
func (m *poller) poll(ctx context.Context) {
	answered, asked, before := false, false, m.Tally()
	missed := map[uint8]bool{} // units that kept us waiting once are not asked again in this poll
	for _, r := range m.schedule.order(m.plan.current(), time.Now()) {
		if ctx.Err() != nil {
			return
		}
		if missed[r.unit] {
			continue
		}
		asked = true
		err := m.read(ctx, r)
		if _, none := errors.AsType[*noLine](err); none {
			m.Failed(m.settings.address, fmt.Sprintf("connecting: %v", plain.Network(err)))
			break
		}
		if err != nil {
			m.Failed(r.String(), plain.Network(err).Error())
			m.schedule.missed(r.unit, time.Now())
			missed[r.unit] = true
			continue
		}
		m.schedule.answered(r.unit)
		answered = true
	}
	absent := m.schedule.absent()
	m.Change(func(t *source.Tally) { t.Absent = absent })
	if !asked {
		return // none was due
	}
	m.Up(answered)
	if !answered && (before.Up || before.Errors == 0) {
		m.log.Warn("the device does not answer; polling goes on", "error", m.Tally().LastError)
	}
}

// read does one read. When the device refuses it as a whole, it is halved until what is
// left is given, or is a single register that the device does not have. The error is set
// when the unit did not answer.
func (m *poller) read(ctx context.Context, r read) error {
	words, err := m.line.ask(ctx, r)
	switch {
	case err == nil:
		m.plan.gave(r)
		m.deliver(r, words)
		return nil
	case !isException(err) || isAbsent(err):
		return err
	case len(r.registers) == 1:
		m.Failed(r.String(), fmt.Sprintf("the device answers %q", err))
		if isTooMuch(err) {
			m.plan.missing(r.registers[0])
		}
		return nil
	case !isTooMuch(err):
		m.Failed(r.String(), fmt.Sprintf("the device answers %q", err))
		return nil
	}
	halves := r.halves()
	before := len(m.plan.alone)
	for _, half := range halves {
		if err := m.read(ctx, half); err != nil {
			return err
		}
	}
	if len(m.plan.alone) == before { // every register was given, but not all at once
		m.plan.tooMuch(r, int(max(halves[0].count, halves[1].count)))
	}
	return nil
}

// deliver decodes the words of a read and hands its readings on.
func (m *poller) deliver(r read, words []uint16) {
	at, err := m.pipe.Arrive()
	if err != nil {
		return
	}
	d := &pipeline.Delivery{Polled: true, Done: func(err error) {
		if err == nil {
			m.Acked()
		}
	}}
	for _, reg := range r.registers {
		first := int(reg.address - r.address)
		own := words[first : first+reg.as.words]
		from := &reading.Origin{Source: m.name, Place: place(reg), Raw: bigEndian(own)}
		v, ok, err := reg.value(own)
		switch {
		case err != nil:
			d.Rejects = append(d.Rejects, from.Reject(at, err.Error()))
		case ok:
			d.Readings = append(d.Readings, reading.Reading{Path: reg.series, Time: at, Value: v, From: from})
		}
	}
	m.Arrived(len(d.Readings), len(d.Rejects))
	m.pipe.Submit(d)
}

func bigEndian(words []uint16) []byte {
	var out []byte
	for _, w := range words {
		out = binary.BigEndian.AppendUint16(out, w)
	}
	return out
}

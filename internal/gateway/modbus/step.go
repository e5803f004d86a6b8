package modbus

import (
	"context"
	"encoding/binary"
	"fmt"
	"time"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/gateway/modbus/planner"
	"nexocumula/internal/gateway/pipeline"
)

// step is a read of a want.
type step struct {
	want *want
	planner.Read
	extra  bool          // beyond the plan, to find something out when the line has time
	trial  bool          // only to learn whether it is given; its values come otherwise
	again  bool          // it was not answered, and is asked once more, after a longer pause
	paused time.Duration // before that
	blames *blame        // the answer to it decides what becomes of another read
}

// step does the first read that is left of a task.
func (m *poller) step(ctx context.Context, t *task) {
	s := t.left[0]
	u := t.unit
	facts := u.table(s.want.table)
	r := request{u.id, s.want.table, s.First, s.Count}
	wait := m.settings.timeout
	if !u.proven && len(m.units) > 1 && !m.settings.address.framed {
		wait = min(wait, introduction)
	}
	begun := time.Now()
	words, ended, err := m.ask(ctx, r, begun, wait)
	if ctx.Err() != nil && err != nil || m.noLine(err) {
		return // it is still left
	}
	t.left = t.left[1:]
	answered := err == nil || isException(err) && !isAbsent(err)
	if answered {
		m.heard(u, ended)
	}
	switch {
	case s.blames != nil && answered:
		if err == nil {
			m.gave(facts, s)
		}
		b := s.blames
		of := request{u.id, b.step.want.table, b.step.First, b.step.Count}
		u.table(b.step.want.table).Exception = failing(of, b.err)
		if len(b.step.Values) > 1 {
			m.Failed(of.String(), failing(of, b.err)+"; asked for in parts")
		}
		m.refused(t, b.step, failing(of, b.err))
	case s.blames != nil:
		b := s.blames
		m.silence(u, request{u.id, b.step.want.table, b.step.First, b.step.Count}, b.begun, b.err)
	case err == nil:
		u.relapses, t.gave = 0, true
		m.cameUp()
		delete(s.want.noise, s.First)
		m.gave(facts, s)
		if !s.trial {
			m.deliver(t, s, words)
		}
	case answered:
		facts.Exception = exceptionName(err)
		text := fmt.Sprintf("the device answers %q", err)
		if isRefusal(err) {
			m.refused(t, s, text)
		} else {
			m.fault(t, r, text)
		}
	default:
		m.unanswered(t, s, begun, err)
	}
	if len(t.left) > 0 && t.left[0].extra {
		m.submit(t) // what came does not wait for what is to be found out
		t.spreadOut(time.Now())
	}
}

func (m *poller) gave(facts *tableOf, s step) {
	alone := len(facts.Refused)
	facts.DidGive(s.Read)
	m.learned(facts)
	if alone != len(facts.Refused) {
		m.tellAbsent()
	}
}

func (m *poller) fault(t *task, r request, text string) {
	m.Failed(r.String(), text)
	t.got.Failed = append(t.got.Failed, r.String()+": "+text)
}

// refused learns that a read was, and asks for its parts.
func (m *poller) refused(t *task, s step, text string) {
	facts, now := t.unit.table(s.want.table), time.Now()
	facts.DidRefuse(s.Read, now)
	m.learned(facts)
	switch {
	case s.trial:
	case len(s.Values) == 1:
		m.fault(t, request{t.unit.id, s.want.table, s.First, s.Count}, text)
		m.tellAbsent()
	default:
		t.left = append(s.parts(facts), t.left...)
	}
}

func (s step) parts(facts *tableOf) []step {
	halves, over := s.want.wish.Halves(s.Read, &facts.Facts)
	out := []step{{want: s.want, Read: halves[0], extra: true}, {want: s.want, Read: halves[1], extra: true}}
	if over != nil {
		out = append(out, step{want: s.want, Read: *over, trial: true, extra: true})
	}
	return out
}

// unanswered finds out why a read was not: too soon after the one before, something that the unit does not give, or the
// unit is silent.
func (m *poller) unanswered(t *task, s step, begun time.Time, err error) {
	u := t.unit
	facts, before := u.table(s.want.table), m.pause.span
	awake := u.proven && begun.Sub(u.last) < 2*m.settings.timeout
	if s.trial {
		facts.DidRefuse(s.Read, time.Now())
		m.learned(facts)
		return
	}
	if awake && isTimeout(err) && !s.again && begun.Sub(m.pause.last) < learnedMost && m.pause.longer() {
		s.again, s.paused, m.unkept = true, before, true
		t.left = append([]step{s}, t.left...)
		return
	}
	if s.again { // more time did not help
		m.pause.span = s.paused
	}
	if s.suspected(err, facts) {
		if check := m.knownGood(u, s); check != nil {
			check.blames = &blame{s, begun, err}
			t.left = append([]step{*check}, t.left...)
			return
		}
	}
	m.silence(u, request{u.id, s.want.table, s.First, s.Count}, begun, err)
}

// deliver decodes the words of a read and hands its readings on.
func (m *poller) deliver(t *task, s step, words []uint16) {
	at, err := m.pipe.Arrive()
	if err != nil {
		return
	}
	at = t.timeOf(at)
	for _, i := range s.Values {
		r := s.want.registers[i]
		m.place(t, r, words[int(r.address)-s.First:][:r.as.words], at)
	}
	if len(t.brought.Readings) >= mostBrought {
		m.submit(t)
	}
}

// place puts a value where it belongs: a scale to those that wait for it, and others to what is
// handed on.
func (m *poller) place(t *task, r register, own []uint16, at int64) {
	switch {
	case r.series == "": // it scales others
		if t.scales == nil {
			t.scales = map[tableAddress]int16{}
		}
		t.scales[tableAddress{r.table, r.address}] = int16(r.order.bits(own))
	case r.scaledBy != nil:
		t.scaled = append(t.scaled, scaled{r, own, at})
	default:
		m.decode(t, r, own, 0, at)
	}
}

// mostBrought is how many readings wait for the end of their task.
const mostBrought = 500

// settleScaled hands on the values that a scale has come for.
func (m *poller) settleScaled(t *task) {
	for _, s := range t.scaled {
		by, came := t.scales[tableAddress{s.register.table, s.register.scaledBy.address}]
		if !came {
			from := m.origin(s.register, s.words)
			t.brought.Rejects = append(t.brought.Rejects,
				from.Reject(s.at,
					fmt.Sprintf("%s: its scale, %s %d, did not come", s.register.series, s.register.table,
						s.register.scaledBy.address)))
			continue
		}
		m.decode(t, s.register, s.words, by, s.at)
	}
}

// submit hands on what a task has brought so far.
func (m *poller) submit(t *task) {
	d := &pipeline.Delivery{Polled: true, Readings: t.brought.Readings, Rejects: t.brought.Rejects, Done: func(err error) {
		if err == nil {
			m.Acked()
		}
	}}
	t.brought = brought{}
	if len(d.Readings)+len(d.Rejects) == 0 {
		return
	}
	t.got.Readings += len(d.Readings)
	t.got.Rejects += len(d.Rejects)
	m.Arrived(len(d.Readings), len(d.Rejects))
	m.pipe.Submit(d)
}

func (m *poller) origin(r register, words []uint16) *reading.Origin {
	raw := make([]byte, 0, 2*len(words))
	for _, w := range words {
		raw = binary.BigEndian.AppendUint16(raw, w)
	}
	return &reading.Origin{Source: m.name, Place: r.where, Raw: raw}
}

// decode makes a reading of registers, or a reject.
func (m *poller) decode(t *task, r register, words []uint16, scale int16, at int64) {
	from := m.origin(r, words)
	out := reading.Reading{Path: r.series, Time: at, From: from}
	var err error
	there := true
	if r.as.text {
		out.Text, err = r.letters(words)
		there = out.Text != "" // blanks are no name
	} else {
		out.Value, there, err = r.value(words, scale)
	}
	switch {
	case err != nil:
		t.brought.Rejects = append(t.brought.Rejects, from.Reject(at, fmt.Sprintf("%s: %v", r.series, err)))
	case there:
		t.brought.Readings = append(t.brought.Readings, out)
	}
}

// timeOf returns the time of a reading whose answer came at a time: that, or the point of the
// schedule that it is for.
func (t *task) timeOf(at int64) int64 {
	if !t.group.scheduled {
		return at
	}
	point := at - int64(time.Since(t.due))
	every, phase := int64(t.group.every), int64(max(t.group.phase, 0))
	if t.group.phase < 0 {
		phase = int64(t.spread)
	}
	return (point-phase+every/2)/every*every + phase // the clock and the wait do not agree to the last digit
}

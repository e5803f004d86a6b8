package modbus

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"nexocumula/internal/event"
	"nexocumula/internal/gateway/modbus/planner"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/plain"
)

// poller asks the units of one line. It does one request at a time, that of the task whose
// deadline is nearest; a unit that does not answer is asked when the line has time.
type poller struct {
	source.Counter
	name     string
	settings settings
	units    map[uint8]*unit
	tasks    []*task
	line     *line
	pause    linePause
	current  *task     // that was urgent last
	until    time.Time // and stays so, while it has something left
	silent   int       // units that do not answer
	absences absences
	up       bool // something gives values
	down     rest // of the connection, after it could not be made
	spare    spare
	figures  *figures
	demands  chan demand
	loans    chan func()   // of the line, to somebody who wants to find something out
	ended    chan struct{} // closed when nobody reads any more
	kept     time.Time     // when what was learned was last written
	unkept   bool          // something was learned since
	pipe     *pipeline.Pipeline
	log      *slog.Logger
}

// rest is a pause that grows.
type rest struct {
	tries int
	until time.Time
}

// introduction is how long a unit that was never heard is waited for the first time, when
// others wait for the line. On a serial line the others listen in, and may wait for the
// answer themselves for longer than that.
const introduction = 200 * time.Millisecond

func open(name string, settings settings, pipe *pipeline.Pipeline, logger *slog.Logger) *poller {
	m := &poller{
		name: name, settings: settings, units: map[uint8]*unit{}, line: &line{address: settings.address},
		spare: spare{share: settings.silentShare}, demands: make(chan demand), loans: make(chan func()), ended: make(chan struct{}), pipe: pipe, log: logger.With("source",
			name),
	}
	m.figures = newFigures(m.settings.groups)
	m.line.foreign = m.figures.foreign
	m.tasks = m.makeTasks()
	m.pause = pauseOf(m.units)
	m.Change(func(t *source.Tally) {
		*t = source.Tally{Name: name, Form: "modbus", Address: settings.address.String()}
	})
	return m
}

// makeTasks sorts the registers by unit, group and table.
func (m *poller) makeTasks() (tasks []*task) {
	request, word := m.settings.address.cost()
	for _, r := range m.settings.registers {
		u := m.units[r.unit]
		if u == nil {
			limits := m.settings.units[r.unit]
			u = &unit{id: r.unit, limits: limits, tables: map[table]*tableOf{}}
			m.units[r.unit] = u
		}
		i := slices.IndexFunc(tasks, func(t *task) bool { return t.unit == u && t.group.name == r.group })
		if i < 0 {
			g := &m.settings.groups[slices.IndexFunc(m.settings.groups,
				func(g group) bool { return g.name == r.group })]
			i, tasks = len(tasks), append(tasks, &task{
				group:  g,
				unit:   u,
				spread: spreadOf(m.name+" "+m.settings.address.text+" "+g.name, g.every),
			})
		}
		t := tasks[i]
		k := slices.IndexFunc(t.wants, func(w want) bool { return w.table == r.table })
		if k < 0 {
			longest := r.table.most()
			if u.limits.longest > 0 && !r.table.isBits() {
				longest = u.limits.longest
			}
			k, t.wants = len(t.wants), append(t.wants, want{
				table: r.table,
				wish:  planner.Wish{Longest: longest, Holes: u.limits.holes, Request: request, Word: word},
			})
		}
		t.wants[k].add(r)
	}
	return tasks
}

func (w *want) add(r register) {
	w.registers = append(w.registers, r)
	w.wish.Values = append(w.wish.Values, planner.Value{First: int(r.address), Words: r.as.words})
	if r.scaledBy == nil || slices.ContainsFunc(w.registers,
		func(o register) bool { return o.series == "" && o.address == r.scaledBy.address }) {
		return
	}
	w.registers = append(w.registers, register{
		unit:    r.unit,
		table:   r.table,
		address: r.scaledBy.address,
		as:      types[1],
		order:   r.order,
	})
	w.wish.Values = append(w.wish.Values, planner.Value{First: int(r.scaledBy.address), Words: 1})
}

// Tally returns the present counts of the source.
func (m *poller) Tally() source.Tally {
	t := m.Counter.Tally()
	learned := t.Line
	t.Line = m.figures.line()
	if learned != nil {
		t.Line.Learned = learned.Learned
	}
	return t
}

// Run asks until ctx ends.
func (m *poller) Run(ctx context.Context) error {
	defer close(m.ended)
	defer m.Up(false)
	m.recall()
	defer m.remember(true)
	defer m.line.close()
	for now, i := time.Now(), 0; i < len(m.tasks); i++ {
		t := m.tasks[i]
		if t.group.scheduled || t.group.every == 0 {
			t.next(now)
			continue
		}
		t.due = now.Add(min(t.spread, time.Second) / 4) // what there is to see is seen at once
	}
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		if idle := m.turn(ctx, time.Now()); idle > 0 {
			timer.Reset(idle)
			select {
			case <-timer.C:
			case d := <-m.demands:
				m.demand(d)
			case use := <-m.loans:
				use()
			case <-ctx.Done():
			}
		} else {
			select {
			case d := <-m.demands:
				m.demand(d)
			case use := <-m.loans:
				use()
			default:
			}
		}
		if ctx.Err() != nil {
			return nil
		}
	}
}

// turn does one thing that is to be done, or says how long there is none.
func (m *poller) turn(ctx context.Context, now time.Time) (idle time.Duration) {
	if idle := max(m.down.until.Sub(now), m.pause.rest(now)); idle > 0 {
		return idle
	}
	t, gap := m.urgent(now)
	if u, later := m.forlorn(now, gap); u != nil {
		m.call(ctx, u)
		return 0
	} else if t == nil {
		return min(gap, later)
	}
	if !t.begun {
		t.begin(now)
	}
	t.served = now
	if len(t.left) > 0 {
		m.step(ctx, t)
	}
	if t.begun && len(t.left) == 0 {
		m.finish(t)
	}
	return 0
}

// urgent returns the task that is due and has the nearest deadline; if none is, how long there
// will be none.
func (m *poller) urgent(now time.Time) (found *task, gap time.Duration) {
	if t := m.current; t != nil && len(t.left) > 0 && t.unit.silent == nil && !t.paced.After(now) &&
		now.Before(m.until) {
		return t, 0
	}
	gap = time.Hour
	for _, t := range m.tasks {
		if t.unit.silent != nil || t.due.IsZero() {
			continue
		}
		ready := t.due
		if t.paced.After(ready) {
			ready = t.paced
		}
		if wait := ready.Sub(now); wait > 0 {
			gap = min(gap, wait)
			continue
		}
		if found == nil || t.deadline().Before(found.deadline()) ||
			t.deadline().Equal(found.deadline()) && t.served.Before(found.served) {
			found = t
		}
	}
	m.current, m.until = found, now.Add(gap)
	if found != nil {
		gap = 0
	}
	return found, gap
}

// forlorn returns a silent unit that may be asked now: in time that nobody needs, or that was
// saved for it. Else it says when to look again.
func (m *poller) forlorn(now time.Time, gap time.Duration) (found *unit, later time.Duration) {
	if later = time.Hour; m.silent == 0 {
		return nil, later
	}
	alone := m.silent == len(m.units)
	saved := m.spare.now(now, m.settings.timeout)
	for _, u := range m.units {
		if u.silent == nil {
			continue
		}
		wait := u.silent.next.Sub(now)
		if !alone && gap < m.settings.timeout && saved < m.settings.timeout {
			wait = max(wait, time.Duration(float64(m.settings.timeout-saved)/m.spare.share), time.Millisecond)
		}
		if later = min(later, wait); wait <= 0 && (found == nil || u.silent.next.Before(found.silent.next)) {
			found = u
		}
	}
	return found, later
}

// call asks a silent unit for one value; for another each time, as there may be one that it never answers.
func (m *poller) call(ctx context.Context, u *unit) {
	s := m.oneOf(u, u.silent.tries)
	r := request{u.id, s.want.table, s.First, s.Count}
	begun := time.Now()
	_, ended, err := m.ask(ctx, r, begun, m.settings.timeout)
	switch {
	case err == nil || isException(err) && !isAbsent(err):
		m.heard(u, ended)
		if err == nil {
			facts := u.table(s.want.table)
			facts.DidGive(s.Read)
			m.learned(facts)
		}
		m.current = nil
		for _, t := range m.tasks {
			if t.unit == u && t.group.every > 0 {
				t.due = time.Now()
			}
		}
	case !m.noLine(err):
		m.silence(u, r, begun, err)
	}
}

// oneOf returns the read of a unit's value with a number; they begin again after the last.
func (m *poller) oneOf(u *unit, number int) step {
	var all []step
	for _, t := range m.tasks {
		for i := range t.wants {
			for k, v := range t.wants[i].wish.Values {
				if t.unit == u {
					all = append(all, step{
						want: &t.wants[i], Read: planner.Read{First: v.First, Count: v.Words, Values: []int{k}},
					})
				}
			}
		}
	}
	return all[number%len(all)]
}

func (m *poller) ask(ctx context.Context, r request, begun time.Time, wait time.Duration) (words []uint16, ended time.Time, err error) {
	words, err = m.line.ask(ctx, r, wait)
	ended = time.Now()
	m.figures.asked(begun, ended, err)
	return words, ended, err
}

// noLine reports whether there was no connection. It is tried again after a while.
func (m *poller) noLine(err error) bool {
	none, is := errors.AsType[*noLine](err)
	if !is {
		return false
	}
	m.down.tries++
	m.down.until = time.Now().Add(min(firstRest<<min(m.down.tries-1, 10), lonelyRest))
	for _, t := range m.tasks {
		m.submit(t) // what came before does not wait for the connection
		m.answerDemand(t, fmt.Sprintf("unit %d: there is no connection", t.unit.id))
	}
	m.Failed(m.settings.address.String(), fmt.Sprintf("connecting: %v", plain.Network(none)))
	m.fell("there is no connection to the device; it is tried again")
	return true
}

// fell notes that nothing answers.
func (m *poller) fell(text string) {
	before := m.Counter.Tally()
	m.up = false
	m.Up(false)
	if before.Up || before.Errors <= 1 {
		event.DeviceSilent.To(m.log, "what", text, "error", m.Counter.Tally().LastError)
	}
}

// cameUp notes that values come.
func (m *poller) cameUp() {
	if !m.up {
		m.up = true
		m.Up(true)
	}
}

// heard notes that a unit answered.
func (m *poller) heard(u *unit, at time.Time) {
	was := u.silent
	u.answered(at)
	m.pause.last = at
	m.down = rest{}
	if was != nil {
		m.silent--
		m.absences.end(u.id, at)
		m.tellAbsent()
	}
}

// silence notes that a unit did not answer.
func (m *poller) silence(u *unit, r request, begun time.Time, err error) {
	now := time.Now()
	m.Failed(r.String(), plain.Network(err).Error())
	m.spare.waste(now.Sub(begun), m.settings.timeout)
	if u.silent == nil {
		m.silent++
		m.absences.begin(u.id, now)
	}
	alone := m.silent == len(m.units)
	u.missed(now, alone)
	m.tellAbsent()
	if alone {
		m.fell("the device does not answer; it is asked on")
	}
	for _, t := range m.tasks {
		if t.unit == u {
			m.settleScaled(t)
			m.submit(t)
			m.answerDemand(t, fmt.Sprintf("unit %d does not answer", u.id))
			t.next(now)
		}
	}
}

// finish ends what a task does at one time.
func (m *poller) finish(t *task) {
	now := time.Now()
	m.settleScaled(t)
	m.submit(t)
	if !t.due.IsZero() {
		m.figures.done(t.group, now.Sub(t.due))
	}
	m.answerDemand(t, "")
	t.barren = !t.gave
	if m.up && t.barren && !slices.ContainsFunc(m.tasks, func(t *task) bool { return t.group.every > 0 && !t.barren }) {
		m.fell("the device answers, but gives no value; it is asked on")
	}
	t.next(now)
	m.remember(false)
}

// tellAbsent names units that do not answer, and registers that are not given.
func (m *poller) tellAbsent() {
	var out []string
	for _, u := range m.units {
		if u.silent != nil {
			out = append(out,
				fmt.Sprintf("unit %d has not answered since %s", u.id, u.silent.since.UTC().Format(time.RFC3339)))
		}
		for name, t := range u.tables {
			for _, r := range t.Refused {
				if r.Alone {
					out = append(out,
						fmt.Sprintf("%s is not given since %s: %s; asked again %s",
							request{u.id, name, r.First, r.End - r.First}, r.Since.UTC().Format(time.RFC3339),
							t.Exception, r.Again.UTC().Format(time.RFC3339)))
				}
			}
		}
	}
	slices.Sort(out)
	m.Change(func(t *source.Tally) { t.Absent = out })
}

// String returns the place for people.
func (r request) String() string {
	if r.count == 1 {
		return fmt.Sprintf("unit %d, %s %d", r.unit, r.table, r.first)
	}
	return fmt.Sprintf("unit %d, %s %d to %d", r.unit, r.table, r.first, r.first+r.count-1)
}

package pipeline

import (
	"strings"

	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
)

// deriver makes readings of a series from those of others.
type deriver struct {
	rule     *config.Rule
	quantity string // last level of what it makes
}

func derivers(rules []config.Rule) (out []deriver) {
	for i := range rules {
		if r := &rules[i]; r.Derive != nil {
			levels := r.Select.Levels()
			out = append(out, deriver{r, levels[len(levels)-1]})
		}
	}
	return out
}

// target is the series that is made when one of the inputs has a reading; ok is false when the
// series is none of them.
func (d *deriver) target(of series.Path) (target series.Path, ok bool) {
	for _, from := range d.rule.Derive.From {
		if from.Series == "" {
			continue
		}
		if strings.Contains(from.Series, "/") {
			target = series.Path(strings.Join(d.rule.Select.Levels(), "/"))
		} else {
			target = screen.Beside(of, d.quantity)
		}
		if screen.Beside(target, from.Series) == of && d.rule.Select.Match(target) {
			return target, true
		}
	}
	return "", false
}

// trigger is a reading that is to be made.
type trigger struct {
	by     *deriver
	target series.Path
	time   int64
}

// derive makes the readings that follow from those of a delivery that count: one for each time
// of an input, from the newest of the others then. Where another is not there, or does not speak
// any more, there is none; nor for a reading that came late, of which it is not known what held.
func (p *Pipeline) derive(r *rules, d *Delivery) (out []reading.Reading) {
	done := map[trigger]bool{}
	for _, s := range d.screened {
		for i := range r.derivers {
			by := &r.derivers[i]
			target, ok := by.target(s.series.def.Path)
			if !ok || done[trigger{by, target, s.time}] {
				continue
			}
			done[trigger{by, target, s.time}] = true
			if v, ok := p.evaluate(r, d, by, target, s.time); ok {
				out = append(out, reading.Reading{Path: target, Time: s.time, Value: v, From: &reading.Origin{Source: d.Readings[s.of].From.Source, Place: "derived: " + by.rule.Derive.Text}})
			}
		}
	}
	for _, s := range d.screened {
		m := s.series.memory
		m.mu.Lock()
		if s.time >= m.held.time {
			m.held = held{s.time, s.value}
		}
		m.mu.Unlock()
	}
	return out
}

func (p *Pipeline) evaluate(r *rules, d *Delivery, by *deriver, target series.Path, at int64) (float64, bool) {
	values := make([]float64, len(by.rule.Derive.From))
	for i, from := range by.rule.Derive.From {
		path := screen.Beside(target, from.Series)
		v, ok := p.heldAt(r, d, path, at)
		if !ok {
			return 0, false
		}
		values[i] = v*from.Into.Scale + from.Into.Offset
	}
	return by.rule.Derive.Formula(values), true
}

// heldAt is the value that a series has at a time.
func (p *Pipeline) heldAt(r *rules, d *Delivery, path series.Path, at int64) (value float64, ok bool) {
	found, known := r.members.Load(path)
	if !known {
		return 0, false
	}
	m := found.(*member)
	m.memory.mu.Lock()
	time, value := m.memory.held.time, m.memory.held.value
	m.memory.mu.Unlock()
	ok = time != 0 && time <= at
	for _, s := range d.screened {
		if s.series == m && s.time <= at && (!ok || s.time >= time) {
			time, value, ok = s.time, s.value, true
		}
	}
	return value, ok && at-time <= int64(m.def.FreshFor)
}

package pipeline

import (
	"strings"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
)

// deriver makes readings of a series from those of others.
type deriver struct {
	rule     *config.SeriesRule
	quantity string // last level of what it makes
}

func derivers(rules []config.SeriesRule) (out []deriver) {
	for i := range rules {
		if r := &rules[i]; r.Derive != nil {
			levels := r.Select.Levels()
			out = append(out, deriver{r, levels[len(levels)-1]})
		}
	}
	return out
}

// target returns the series that is made when one of the inputs has a reading; ok is false when the
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

// derive makes the readings that follow from those of a delivery that count, and remembers these for
// later ones.
func (in *intake) derive(r *rules, d *Delivery) []reading.Reading {
	out := r.derived(d)
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

// derived computes derived readings: one for each time of an input, from the newest values of the other
// inputs at that time. Where another is not there, or does not speak any more, there is none; nor for a
// reading that came late, of which it is not known what held.
func (r *rules) derived(d *Delivery) (out []reading.Reading) {
	done := map[trigger]bool{}
	for _, s := range d.screened {
		for i := range r.derivers {
			by := &r.derivers[i]
			target, ok := by.target(s.series.def.Path)
			if !ok || done[trigger{by, target, s.time}] {
				continue
			}
			done[trigger{by, target, s.time}] = true
			if v, ok := r.evaluate(d, by, target, s.time); ok {
				out = append(out, reading.Reading{
					Path:  target,
					Time:  s.time,
					Value: v,
					From:  &reading.Origin{Source: d.Readings[s.of].From.Source, Place: "derived: " + by.rule.Derive.Text},
				})
			}
		}
	}
	return out
}

func (r *rules) evaluate(d *Delivery, by *deriver, target series.Path, at int64) (float64, bool) {
	values := make([]float64, len(by.rule.Derive.From))
	for i, from := range by.rule.Derive.From {
		path := screen.Beside(target, from.Series)
		v, ok := r.heldAt(d, path, at)
		if !ok {
			return 0, false
		}
		values[i] = v*from.Into.Scale + from.Into.Offset
	}
	return by.rule.Derive.Formula(values), true
}

// stored returns the newest reading of a series that the store has, and for how long it speaks.
func (in *intake) stored(path series.Path) (newest held, fresh time.Duration, ok bool) {
	known, ok := in.store.Find(path)
	if !ok || known.LastTime == 0 {
		return held{}, 0, false
	}
	if found, there := in.memories.Load(path); there {
		m := found.(*memory)
		m.mu.Lock()
		defer m.mu.Unlock()
		if m.foreign {
			return held{}, 0, false
		}
	}
	return held{known.LastTime, known.LastValue}, known.FreshFor, true
}

// heldAt returns the value that a series has at a time.
func (r *rules) heldAt(d *Delivery, path series.Path, at int64) (value float64, ok bool) {
	var newest held
	var fresh time.Duration
	if found, known := r.members.Load(path); known && found.(*member).memory != nil {
		m := found.(*member)
		m.memory.mu.Lock()
		newest = m.memory.held
		m.memory.mu.Unlock()
		fresh, ok = m.def.FreshFor, newest.time != 0 && newest.time <= at
	}
	if newest.time == 0 { // it was not heard since the start
		newest, fresh, ok = r.stored(path)
		ok = ok && newest.time <= at
	}
	for _, s := range d.screened {
		if s.series.def.Path == path && s.time <= at && (!ok || s.time >= newest.time) {
			newest, fresh, ok = held{s.time, s.value}, s.series.def.FreshFor, true
		}
	}
	return newest.value, ok && at-newest.time <= int64(fresh)
}

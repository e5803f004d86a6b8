package pipeline

import (
	"fmt"

	"nexocumula/internal/core/calibrate"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
)

// screened is a reading that counts.
type screened struct {
	series *member
	time   int64
	value  float64 // calibrated
	of     int     // its place among the readings of its delivery
}

// screen calibrates and screens the readings of a delivery.
func (in *intake) screen(d *Delivery) error {
	d.screened = make([]screened, 0, len(d.Readings))
	r := in.rules.Load()
	if err := in.take(r, d, 0); err != nil || len(r.derivers) == 0 {
		return err
	}
	more := in.derive(r, d)
	if len(more) == 0 {
		return nil
	}
	first := len(d.Readings)
	d.Readings = append(d.Readings, more...)
	return in.take(r, d, first)
}

// take calibrates and screens the readings of a delivery from one on.
func (in *intake) take(r *rules, d *Delivery, first int) error {
	screens := false
	before := len(d.screened)
	for i := first; i < len(d.Readings); i++ {
		one := &d.Readings[i]
		m, err := in.member(r, one)
		if err != nil {
			return err
		}
		now := in.judge.Now().UnixNano()
		if m.limits.RefuseTime(one.Time, now) != "" && m.refusal == "" {
			// Only with a clock that can be believed is anything refused for its time.
			if err := in.untilSure(); err != nil {
				return err
			}
			now = in.judge.Now().UnixNano()
		}
		value, no := m.calibrate(*one, now)
		if no.rule != "" {
			d.Rejects = append(d.Rejects, one.Reject(now, no.rule, fmt.Sprintf("%s: %s", one.Path, no.reason)))
			continue
		}
		if gone := in.removed.At(m.def.Path, one.Time); gone != nil {
			d.Rejects = append(d.Rejects, one.Reject(now, reading.Removed,
				fmt.Sprintf("%s: %s removed what is of this time: %s", one.Path, gone.Author, gone.Detail)))
			continue
		}
		m.memory.heard(one.Time, now, one.From, m.rule.Every == 0 && len(m.rule.Screens) == 0)
		d.screened = append(d.screened, screened{m, one.Time, value, i})
		screens = screens || len(m.rule.Screens) > 0
	}
	if screens {
		in.plausible(d, before)
	}
	return nil
}

// rejection is why a reading does not count, and which rule says so.
type rejection struct{ rule, reason string }

// calibrate returns the value of a reading in its series, or why there is none. It looks at
// nothing but the reading and the rule.
func (m *member) calibrate(one reading.Reading, now int64) (value float64, no rejection) {
	if m.refusal != "" {
		return 0, rejection{reading.NoSeries, m.refusal}
	}
	if reason := m.intoState(&one); reason != "" {
		return 0, rejection{reading.WrongState, reason}
	}
	var by *calibrate.Calibration
	if m.def.Kind != series.State {
		by = m.rule.Calibrations.At(one.Time)
	}
	if reason := m.intoUnit(&one, by); reason != "" {
		return 0, rejection{reading.WrongUnit, reason}
	}
	if by != nil {
		var reason string
		if one.Value, reason = by.Apply(one.Value); reason != "" {
			return 0, rejection{reading.Uncalibrated, reason}
		}
	}
	if rule, reason := m.limits.Refuse(one.Value, one.Time, now); reason != "" {
		return 0, rejection{rule, reason}
	}
	if m.def.Kind == series.Bearing {
		one.Value = series.Turn(one.Value)
	}
	if one.Value == 0 {
		one.Value = 0 // -0 is 0: it is what devices and rounding make of small negative values
	}
	return one.Value, rejection{}
}

// plausible asks the screens of the series about those from one on.
func (in *intake) plausible(d *Delivery, from int) {
	all := d.screened
	kept := all // until the first that is left out, or marked
	same := true
	keep := func(s screened) {
		if !same {
			kept = append(kept, s)
		}
	}
	differ := func(i int) {
		if same {
			kept, same = append(make([]screened, 0, len(all)+4), all[:i]...), false
		}
	}
	for i, s := range all {
		m := s.series
		if i < from || len(m.rule.Screens) == 0 {
			keep(s)
			continue
		}
		verdict := m.memory.judge(m, s, all)
		if verdict.Then == screen.Reject {
			differ(i)
			one := &d.Readings[s.of]
			d.Rejects = append(d.Rejects,
				one.Reject(in.judge.Now().UnixNano(), verdict.Rule, fmt.Sprintf("%s: %s", one.Path, verdict.Reason)))
			continue
		}
		if m.marks != nil {
			differ(i)
		}
		if keep(s); m.marks != nil {
			quality := 0.0
			if verdict.Then == screen.Uncertain {
				quality = 1
			}
			keep(screened{m.marks, s.time, quality, s.of})
		}
	}
	d.screened = kept
}

package pipeline

import (
	"context"
	"log/slog"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
)

// Trial shows what the pipeline would make of a reading.
type Trial struct {
	Reading reading.Reading   // as its source read it
	Def     series.Definition // that it would have
	Value   float64           // calibrated
	Rule    string            // that rejects or doubts it; "": none
	Then    screen.Then       // what becomes of it by that rule
	Reason  string
	Windows []rollup.Window // that it would count in, one for each tier
}

// Try says what would become of readings of one message, and stores nothing.
func (in *intake) Try(readings []reading.Reading) []Trial {
	t := trying{in.rules.Load(), in.judge.Now().UnixNano(), in.store.Find, func(m *member) *screen.Memory {
		found, ok := in.memories.Load(m.def.Path)
		if !ok {
			return remembered(in, m)
		}
		of := found.(*memory)
		of.mu.Lock()
		defer of.mu.Unlock()
		if of.screen == nil {
			return remembered(in, m)
		}
		return of.screen.Clone()
	}}
	return t.all(readings)
}

func remembered(in *intake, m *member) *screen.Memory {
	out := &screen.Memory{}
	if s, ok := in.store.Find(m.def.Path); ok && s.LastTime != 0 {
		since, err := in.sameSince(context.Background(), s, screen.LongestStuck(m.rule.Screens))
		if err != nil {
			since = s.LastTime // nothing is stored here, and the store reports what it cannot read
		}
		out.Start(s.LastTime, s.LastValue, since)
	}
	return out
}

// TryRules does the same by rules alone, without anything before.
func TryRules(settings config.Gateway, readings []reading.Reading, now int64) []Trial {
	nothing := func(series.Path) (newest held, fresh time.Duration, ok bool) { return held{}, 0, false }
	r := &rules{rules: settings.Rules, keep: settings.Keep, derivers: derivers(settings.Rules), stored: nothing}
	unknown := func(series.Path) (engine.Series, bool) { return engine.Series{}, false }
	t := trying{r, now, unknown, func(*member) *screen.Memory { return &screen.Memory{} }}
	return t.all(readings)
}

// trying holds the rules and the knowledge of series that a trial uses.
type trying struct {
	*rules
	now      int64
	find     func(series.Path) (engine.Series, bool)
	memoryOf func(*member) *screen.Memory
}

// all are readings, and those that follow from them.
func (t *trying) all(readings []reading.Reading) []Trial {
	out, good := t.some(readings)
	d := &Delivery{Readings: readings, screened: good}
	more := t.derived(d)
	if len(more) == 0 {
		return out
	}
	derived, _ := t.some(more)
	return append(out, derived...)
}

// some are readings, and which of them count.
func (t *trying) some(readings []reading.Reading) (out []Trial, count []screened) {
	out = make([]Trial, len(readings))
	var good []screened
	for i, one := range readings {
		m := t.newMember(one.Path)
		m.label(one.Labels, time.Unix(0, t.now), slog.New(slog.DiscardHandler))
		if m.rule.Discover > 0 {
			if before, known := t.find(one.Path); known {
				m.refusal = m.find(&one, &before)
			} else {
				m.refusal = m.find(&one, nil)
			}
		}
		value, no := m.calibrate(one, t.now)
		out[i] = Trial{Reading: one, Def: m.def, Value: value, Rule: no.rule, Reason: no.reason, Then: screen.Reject}
		if no.rule == "" {
			good = append(good, screened{m, one.Time, value, i})
		}
	}
	for _, s := range good {
		memory := t.memoryOf(s.series)
		memory.Arrived(s.time, s.value)
		to := &out[s.of]
		verdict := screen.Judge(s.series.rule.Screens, &screen.Subject{
			Def: &s.series.def, Time: s.time, Value: s.value, Memory: memory, Beside: func(path series.Path) (float64, bool) {
				return beside(good,
					path, s.time)
			},
		})
		if to.Rule, to.Then, to.Reason = verdict.Rule, verdict.Then, verdict.Reason; to.Then == screen.Reject {
			continue
		}
		count = append(count, s)
		for _, tier := range s.series.def.Tiers.All() {
			to.Windows = append(to.Windows, rollup.Window{Tier: tier, Start: tier.Start(s.time)})
		}
	}
	return out, count
}

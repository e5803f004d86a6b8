package pipeline

import (
	"log/slog"

	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
)

// Trial is what would become of a reading.
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
func (p *Pipeline) Try(readings []reading.Reading) []Trial {
	return try(p.rules.Load(), p.store.Find, p.judge.Now().UnixNano(), readings, func(m *member) *screen.Memory {
		found, ok := p.memories.Load(m.def.Path)
		if !ok {
			return remembered(p, m)
		}
		of := found.(*memory)
		of.mu.Lock()
		defer of.mu.Unlock()
		if of.screen == nil {
			return remembered(p, m)
		}
		return of.screen.Clone()
	})
}

func remembered(p *Pipeline, m *member) *screen.Memory {
	out := &screen.Memory{}
	if s, ok := p.store.Find(m.def.Path); ok && s.LastTime != 0 {
		out.Start(s.LastTime, s.LastValue)
	}
	return out
}

// TryRules does the same by rules alone, without anything before.
func TryRules(settings config.Gateway, readings []reading.Reading, now int64) []Trial {
	r := &rules{rules: settings.Rules, keep: settings.Keep}
	return try(r, func(series.Path) (store.Series, bool) { return store.Series{}, false }, now, readings, func(*member) *screen.Memory { return &screen.Memory{} })
}

func try(r *rules, find func(series.Path) (store.Series, bool), now int64, readings []reading.Reading, memoryOf func(*member) *screen.Memory) []Trial {
	out := make([]Trial, len(readings))
	var good []screened
	for i, one := range readings {
		m := r.newMember(one.Path)
		m.label(one.Labels, slog.New(slog.DiscardHandler))
		if m.rule.Discover > 0 {
			if before, known := find(one.Path); known {
				m.refusal = m.find(&one, &before)
			} else {
				m.refusal = m.find(&one, nil)
			}
		}
		value, no := m.calibrate(one, now)
		out[i] = Trial{Reading: one, Def: m.def, Value: value, Rule: no.rule, Reason: no.reason, Then: screen.Reject}
		if no.rule == "" {
			good = append(good, screened{m, one.Time, value, i})
		}
	}
	for _, s := range good {
		memory := memoryOf(s.series)
		memory.Arrived(s.time, s.value)
		t := &out[s.of]
		verdict := screen.Judge(s.series.rule.Screens, &screen.Subject{
			Def: &s.series.def, Time: s.time, Value: s.value, Memory: memory, Beside: func(path series.Path) (float64, bool) { return beside(good, path, s.time) },
		})
		if t.Rule, t.Then, t.Reason = verdict.Rule, verdict.Then, verdict.Reason; t.Then == screen.Reject {
			continue
		}
		for _, tier := range rollup.TiersOf(&s.series.def) {
			t.Windows = append(t.Windows, rollup.Window{Tier: tier, Start: tier.Start(s.time)})
		}
	}
	return out
}

package pipeline

import (
	"context"
	"encoding/json"
	"strings"

	"nexocumula/internal/config"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/sqlite"
)

// takeOver makes series what new rules say they are, also those that have no reading for long.
func (p *Pipeline) takeOver(ctx context.Context) {
	if !p.newRules.Swap(false) {
		return
	}
	r := p.rules.Load()
	if err := p.redefine(ctx, r); err != nil {
		p.log.Error("definitions of series could not be brought up to date; trying again", "error", err)
		p.newRules.Store(true)
		return
	}
	p.planFills(r)
}

// redefine writes the definitions that differ from what the rules say. Tiers are left to the fills.
func (p *Pipeline) redefine(ctx context.Context, r *rules) error {
	p.defining.Lock()
	defer p.defining.Unlock()
	var defs []series.Definition
	for _, s := range p.store.List(series.Everything()) {
		if !s.Collected {
			continue
		}
		of, _ := strings.CutSuffix(string(s.Path), "/"+config.QualityLevel)
		if config.RuleOf(r.rules, s.Path).Usual() && config.RuleOf(r.rules, series.Path(of)).Usual() {
			continue // its rule was taken away, maybe with its device: what is known of its history stays
		}
		def := p.wanted(r, s)
		if def.Kind != s.Kind {
			p.log.Warn("a series keeps its definition: it was recorded as another kind", "series", s.Path, "recorded", s.Kind, "wanted", def.Kind)
			continue
		}
		if def == s.Definition {
			continue
		}
		if def.Unit != s.Unit || def.Calibration != s.Calibration {
			found, _ := p.memories.LoadOrStore(s.Path, &memory{})
			found.(*memory).forget()
		}
		defs = append(defs, def)
	}
	if len(defs) == 0 {
		return nil
	}
	_, err := untilWritten(ctx, p, func() ([]uint32, error) { return p.store.Redefine(ctx, defs) })
	return err
}

// wanted is the definition that the rules give a series which the store knows.
func (p *Pipeline) wanted(r *rules, s engine.Series) series.Definition {
	path, quality := strings.CutSuffix(string(s.Path), "/"+config.QualityLevel)
	m := r.newMember(series.Path(path))
	if quality = quality && m.rule.Marks(); !quality {
		m = r.newMember(s.Path)
	}
	if labels, ok := p.said.Load(m.def.Path); ok {
		m.label(labels.(series.Labels), p.log)
	}
	if m.rule.Discover > 0 {
		m.def.Kind, m.def.Unit, m.def.States, m.def.Wrap = s.Kind, s.Unit, s.States, s.Wrap
	}
	if quality {
		m = qualityOf(m)
	}
	m.def.Tiers = s.Tiers
	return m.def
}

// saidState is the name under which the store keeps the labels that messages give series: the rules do not
// say them, and a series without a reading must not lose them.
const saidState = "said"

// saveSaid is the state with the labels that messages gave.
func (p *Pipeline) saveSaid() (sqlite.State, error) {
	all := map[series.Path]series.Labels{}
	p.said.Range(func(path, labels any) bool {
		all[path.(series.Path)] = labels.(series.Labels)
		return true
	})
	text, err := json.Marshal(all)
	return sqlite.State{Name: saidState, Payload: text}, err
}

func (p *Pipeline) loadSaid() error {
	text, err := p.store.State(saidState)
	if err != nil || len(text) == 0 {
		return err
	}
	all := map[series.Path]series.Labels{}
	if err := json.Unmarshal(text, &all); err != nil {
		p.log.Error("which labels messages gave series cannot be read; they come with the next messages", "error", err)
		return nil
	}
	for path, labels := range all {
		p.said.Store(path, labels)
	}
	return nil
}

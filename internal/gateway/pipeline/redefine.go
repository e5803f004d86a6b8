package pipeline

import (
	"context"
	"encoding/json"
	"strings"

	"nexocumula/internal/config"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/sqlite"
)

// redefine writes the definitions that differ from what the rules say. Tiers are left to the fills.
func (in *intake) redefine(ctx context.Context, r *rules) error {
	in.defining.Lock()
	defer in.defining.Unlock()
	var defs []series.Definition
	for _, s := range in.store.List(series.Everything()) {
		if !s.Collected {
			continue
		}
		of, _ := strings.CutSuffix(string(s.Path), "/"+config.QualityLevel)
		if config.RuleOf(r.rules, s.Path).Usual() && config.RuleOf(r.rules, series.Path(of)).Usual() {
			continue // its rule was taken away, maybe with its device: what is known of its history stays
		}
		def := in.wanted(r, s)
		if def.Kind != s.Kind {
			event.KindKept.To(in.log, "series", s.Path,
				"recorded", s.Kind, "wanted", def.Kind)
			continue
		}
		if def == s.Definition {
			continue
		}
		if def.Unit != s.Unit || def.Calibration != s.Calibration {
			found, _ := in.memories.LoadOrStore(s.Path, &memory{})
			found.(*memory).forget()
		}
		defs = append(defs, def)
	}
	if len(defs) == 0 {
		return nil
	}
	_, err := untilWritten(ctx, in.writer, func() ([]uint32, error) { return in.store.Redefine(ctx, defs) })
	return err
}

// wanted returns the definition that the rules give a series which the store knows.
func (in *intake) wanted(r *rules, s engine.Series) series.Definition {
	path, quality := strings.CutSuffix(string(s.Path), "/"+config.QualityLevel)
	m := r.newMember(series.Path(path))
	if quality = quality && m.rule.Marks(); !quality {
		m = r.newMember(s.Path)
	}
	if labels, ok := in.said.Load(m.def.Path); ok {
		m.label(labels.(series.Labels), in.judge.Now(), in.log)
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

// saveSaid returns the state with the labels that messages gave.
func (in *intake) saveSaid() (sqlite.State, error) {
	all := map[series.Path]series.Labels{}
	in.said.Range(func(path, labels any) bool {
		all[path.(series.Path)] = labels.(series.Labels)
		return true
	})
	text, err := json.Marshal(all)
	return sqlite.State{Name: saidState, Payload: text}, err
}

func (in *intake) loadSaid() error {
	text, err := in.store.State(saidState)
	if err != nil || len(text) == 0 {
		return err
	}
	all := map[series.Path]series.Labels{}
	if err := json.Unmarshal(text, &all); err != nil {
		event.LabelsLost.To(in.log, "error", err)
		return nil
	}
	for path, labels := range all {
		in.said.Store(path, labels)
	}
	return nil
}

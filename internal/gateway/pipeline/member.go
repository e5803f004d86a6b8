package pipeline

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/cenkalti/backoff/v5"

	"nexocumula/internal/config"
	"nexocumula/internal/core/calibrate"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/unit"
	"nexocumula/internal/event"
	"nexocumula/internal/store/engine"
)

// member is a series as the intake sees it, and what goes with its readings. One with a refusal takes no readings.
type member struct {
	id      uint32
	def     series.Definition
	rule    *config.SeriesRule // which many share
	limits  screen.Limits      // the rule's, and how old a reading may be
	refusal string
	said    atomic.Pointer[said]
	marks   *member // the series of its quality; nil when no screen can mark it
	memory  *memory
}

// rules say what series are like. The series known by them go with them, so that new
// rules count from the next reading on while the pipeline and its open windows stay.
type rules struct {
	rules   []config.SeriesRule
	keep    []config.Keep
	members sync.Map // series.Path → *member

	derivers []deriver
	stored   func(series.Path) (newest held, fresh time.Duration, ok bool)

	found map[*config.SeriesRule]int  // series by rules that find them; guarded by defining; nil: not counted yet
	told  map[*config.SeriesRule]bool // that a rule finds no more
}

// maxSeries bounds what senders of ever new topics can make a gateway keep.
const maxSeries = 1_000_000

var errTooMany = fmt.Errorf("it would be a new series, and this gateway keeps %d already; is a level of its topic not a name but a value?",
	maxSeries)

// member finds or defines the series of a path. While the store cannot be written it
// waits, as commits do.
func (in *intake) member(r *rules, of *reading.Reading) (*member, error) {
	path := of.Path
	if m, ok := r.members.Load(path); ok && m.(*member).knows(of.Labels, in.judge.Now()) &&
		m.(*member).understands(of) {
		return m.(*member), nil
	}
	in.defining.Lock()
	defer in.defining.Unlock()
	if m, ok := r.members.Load(path); ok && m.(*member).understands(of) {
		return m.(*member), in.relabel(m.(*member), of.Labels)
	}
	m := r.newMember(in.names.Of(path))
	in.labelled(m, of.Labels)
	before, known := in.store.Find(m.def.Path)
	if !known && in.store.Count() >= in.mostSeries {
		m.refusal = errTooMany.Error()
		return m, nil // not remembered: those come without end
	}
	if m.rule.Discover > 0 {
		if m.refusal = in.discover(r, m, of, before, known); m.refusal != "" {
			return m, nil
		}
	}
	m.memory = in.memoryOf(r, m)
	id, err := in.define(m.def)
	if changed, ok := errors.AsType[*engine.KindChanged](err); ok {
		m.refusal = changed.Error()
	} else if err != nil {
		return nil, err
	}
	m.id = id
	if m.rule.Marks() && m.refusal == "" {
		m.marks = qualityOf(m)
		if m.marks.id, err = in.define(m.marks.def); err != nil {
			return nil, err
		}
	}
	if len(m.rule.Screens) > 0 {
		since, err := in.sameSince(context.Background(), before, screen.LongestStuck(m.rule.Screens))
		if err != nil {
			return nil, err
		}
		m.memory.recall(before, since, known && before.Calibration == m.def.Calibration && before.Unit == m.def.Unit)
	}
	r.members.Store(path, m)
	r.members.Store(m.def.Path, m)
	return m, nil
}

// qualityOf returns the series that says how good a series is.
func qualityOf(m *member) *member {
	path := m.def.Path + "/" + config.QualityLevel
	return &member{
		rule:   &config.SeriesRule{},
		memory: &memory{},
		def: series.Definition{
			Path:     path,
			Kind:     series.State,
			FreshFor: m.def.FreshFor,
			Labels:   m.def.Labels,
			States:   config.Qualities,
			Tiers:    m.def.Tiers,
		},
	}
}

// define makes sure that the store knows a series. Which tiers are made of one that it knows
// only a fill changes.
func (in *intake) define(def series.Definition) (uint32, error) {
	ctx, cancel := in.untilStopped()
	defer cancel()
	return untilWritten(ctx, in.writer, func() (uint32, error) {
		ids, err := in.store.DefineKeeping(ctx, []series.Definition{def}, keepTiers)
		if _, ok := errors.AsType[*engine.KindChanged](err); ok {
			return 0, backoff.Permanent(err)
		}
		if err != nil {
			return 0, err
		}
		return ids[0], nil
	})
}

// keepTiers leaves the tiers of a series to the fills.
func keepTiers(def, known *series.Definition) { def.Tiers = known.Tiers }

// said holds the labels that messages give a series, besides its rule.
type said struct {
	labels series.Labels
	since  time.Time
}

// saidFor is how long labels stay at least, so that two senders that contradict each other do
// not write the catalogue with each reading.
const saidFor = time.Minute

// knows reports whether labels are those known, or must wait.
func (m *member) knows(labels series.Labels, now time.Time) bool {
	have := m.said.Load()
	return labels == "" || have != nil && (have.labels == labels || now.Sub(have.since) < saidFor)
}

// label makes the series' labels of those of its rule, which come first, and of what is said.
func (m *member) label(labels series.Labels, now time.Time, log *slog.Logger) {
	if labels == "" {
		return
	}
	m.said.Store(&said{labels, now})
	pairs := labels.Map()
	maps.Copy(pairs, m.rule.Labels.Map())
	all, err := series.MakeLabels(pairs)
	if err != nil {
		event.LabelsTooMany.To(log, "series", m.def.Path, "error", err)
		all = m.rule.Labels
	}
	m.def.Labels = all
}

// relabel takes over what is said now. Who uses the member meanwhile has no need of labels.
func (in *intake) relabel(m *member, labels series.Labels) error {
	if m.refusal != "" || m.knows(labels, in.judge.Now()) {
		return nil
	}
	in.labelled(m, labels)
	_, err := in.define(m.def)
	return err
}

// labelled takes over the labels of a message, and remembers them for the time without one.
func (in *intake) labelled(m *member, labels series.Labels) {
	if labels == "" {
		in.said.Delete(m.def.Path)
		return
	}
	in.said.Store(m.def.Path, labels)
	m.label(labels, in.judge.Now(), in.log)
}

func (r *rules) newMember(path series.Path) *member {
	rule := config.RuleOf(r.rules, path)
	limits := rule.Limits
	def := rule.Define(path)
	kept := config.KeptFor(r.keep, path, series.Readings)
	if of := config.KeptFor(r.keep, path, def.Tiers.Narrowest()); def.Thinning.Method != 0 && of > 0 &&
		(kept == 0 || of < kept) {
		kept = of // how many readings a window had stands in its summary
	}
	if kept > 0 {
		limits.MaxAge = kept - fullHour // those just before it may be needed as well
	}
	return &member{def: def, rule: rule, limits: limits}
}

// intoState gives a reading that is a text the value of the state that is called so.
func (m *member) intoState(one *reading.Reading) (refusal string) {
	if m.rule.Discover > 0 {
		if refusal := m.asFound(one); refusal != "" {
			return refusal
		}
	}
	if one.Text == "" {
		return ""
	}
	value, ok := m.def.States.Value(one.Text)
	switch {
	case ok:
		one.Value = value
		return ""
	case m.def.States == "":
		return fmt.Sprintf("%q is no number; where it names a state, say so in the series' rule: kind: state and states: with the value of each name",
			one.Text)
	}
	return fmt.Sprintf("%q is none of the series' states, which are %s", one.Text,
		strings.Join(m.def.States.Names(), ", "))
}

// intoUnit converts a reading whose sender says its unit into that which its calibration
// takes, or else into that of the series.
func (m *member) intoUnit(one *reading.Reading, by *calibrate.Calibration) (refusal string) {
	wanted := m.def.Unit
	if by != nil && by.In != "" {
		wanted = by.In
	}
	if one.Unit == "" || one.Unit == wanted || wanted == "" {
		return ""
	}
	c, err := unit.Convert(one.Unit, wanted)
	if err != nil {
		return fmt.Sprintf("the sender says its unit is %s, the series' is %s: %v", one.Unit, wanted, err)
	}
	one.Value = one.Value*c.Scale + c.Offset
	return ""
}

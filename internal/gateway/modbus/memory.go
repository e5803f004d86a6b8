package modbus

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"nexocumula/internal/event"
	"nexocumula/internal/gateway/source"
)

// memory holds the facts learned about a line's units. It survives restarts.
type memory map[uint8]unitMemory

type unitMemory struct {
	Pause  time.Duration      `json:"pause,omitempty"` // of the line
	Tables map[table]*tableOf `json:"tables"`
}

// keepAfter is how often what is learned is written, at most.
const keepAfter = 5 * time.Second

// memoryName is of the line at its address: behind another one are other devices.
func (m *poller) memoryName() string { return "modbus " + m.name + " " + m.settings.address.text }

func (m *poller) recall() {
	payload, err := m.pipe.Recall(m.memoryName())
	var kept memory
	if err == nil && payload != nil {
		err = json.Unmarshal(payload, &kept)
	}
	if err != nil {
		event.LearnedLost.To(m.log, "error", err)
		return
	}
	for id, was := range kept {
		u := m.units[id]
		if u == nil {
			continue
		}
		for name, t := range was.Tables {
			if t != nil {
				u.tables[name] = t
			}
		}
		if !m.pause.fixed {
			m.pause.span = max(m.pause.span, min(was.Pause, learnedMost))
		}
	}
	m.tellAbsent()
	m.tellLearned()
}

// learned notes that something was, if it was.
func (m *poller) learned(t *tableOf) { m.unkept = t.Changed() || m.unkept }

// remember writes what was learned, now and then, or at the end.
func (m *poller) remember(last bool) {
	if !m.unkept || !last && time.Since(m.kept) < keepAfter {
		return
	}
	kept := memory{}
	for id, u := range m.units {
		kept[id] = unitMemory{m.pause.span, u.tables}
	}
	payload, err := json.Marshal(kept)
	if err == nil {
		err = m.pipe.Remember(m.memoryName(), payload)
	}
	m.kept = time.Now()
	if err != nil {
		event.LearnedUnkept.To(m.log, "error", err)
		return
	}
	m.unkept = false
	m.tellLearned()
}

// tellLearned says what the units refuse, for people.
func (m *poller) tellLearned() {
	var out []string
	if m.pause.span > 0 && !m.pause.fixed {
		out = append(out, fmt.Sprintf("the line needs %s after an answer", m.pause.span))
	}
	for _, u := range m.units {
		for name, t := range u.tables {
			if t.Short > 0 {
				out = append(out,
					fmt.Sprintf("unit %d, %s: gives %d at once, and not %d", u.id, name, t.Given, t.Short))
			}
			for _, r := range t.Refused {
				if !r.Alone {
					out = append(out,
						fmt.Sprintf("%s are not given in one read", request{u.id, name, r.First, r.End - r.First}))
				}
			}
		}
	}
	slices.Sort(out)
	if len(out) > mostTold {
		out = append(out[:mostTold], fmt.Sprintf("and %d more", len(out)-mostTold))
	}
	m.Change(func(t *source.Tally) { t.Line = &source.Line{Learned: out} })
}

const mostTold = 50

package watch

import (
	"slices"
	"strconv"

	"nexocumula/internal/gateway/payload"
)

// Notice holds facts that take several payloads of a topic to see. Values are named by their place.
type Notice struct {
	States map[string][]string // texts that came, in the order of their first
	Grows  []string            // numbers that grew several times, and never fell
}

// notices gathers what the payloads of a topic show.
type notices struct {
	looked uint64
	states map[string][]string
	trends map[string]*trend
}

// trend is how a number went.
type trend struct {
	last     float64
	ups      int
	fell     bool
	negative bool
}

const (
	mostLooked = 100 // payloads of a topic
	mostStates = 30  // texts of a value
	growsAfter = 3   // times
)

// take looks at a payload.
func (n *notices) take(topic string, raw []byte) {
	if n.looked++; n.looked > mostLooked {
		return
	}
	for _, v := range payload.GuessOf(topic, raw).Values {
		switch {
		case v.State:
			if n.states == nil {
				n.states = map[string][]string{}
			}
			if known := n.states[v.At]; len(known) < mostStates && !slices.Contains(known, v.Sample) {
				n.states[v.At] = append(known, v.Sample)
			}
		case !v.Truth && !v.ItemsOf:
			if number, err := strconv.ParseFloat(v.Sample, 64); err == nil {
				n.number(v.At, number)
			}
		}
	}
}

func (n *notices) number(at string, v float64) {
	if n.trends == nil {
		n.trends = map[string]*trend{}
	}
	t := n.trends[at]
	if t == nil {
		n.trends[at] = &trend{last: v, negative: v < 0}
		return
	}
	if v > t.last {
		t.ups++
	}
	t.fell = t.fell || v < t.last
	t.last = v
}

// notice returns what was gathered so far.
func (n *notices) notice() (out Notice) {
	for at, states := range n.states {
		if out.States == nil {
			out.States = map[string][]string{}
		}
		out.States[at] = slices.Clone(states)
	}
	for at, t := range n.trends {
		if t.ups >= growsAfter && !t.fell && !t.negative {
			out.Grows = append(out.Grows, at)
		}
	}
	slices.Sort(out.Grows)
	return out
}

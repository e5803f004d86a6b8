package window

import (
	"fmt"
	"slices"
	"time"

	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
)

// Plan is windows, and how they are put together from segments, which no edge of a
// window lies inside of, out of the rows of one tier.
type Plan struct {
	Windows []Window
	Tier    series.Tier

	bounds []int64 // segment i is bounds[i] <= time < bounds[i+1]
	parts  [][]int // of each window: begin and end of each run of segments; nil: segment i is window i
}

// NewPlan finds the segments and the widest of the tiers whose windows fill each of them
// exactly. Without readings the narrowest tier must; with exactReadings nothing but
// readings will do.
func NewPlan(windows []Window, tiers []series.Tier, readings, exactReadings bool) (*Plan, error) {
	p := &Plan{Windows: windows}
	p.segments()
	if exactReadings {
		if !readings {
			return nil, fmt.Errorf("percentiles, and how often and when a condition held, need the readings themselves, and only summaries are kept here; fetch the readings (nexocumula fetch) or ask the gateway, or for min, max, mean and sd, or for p95~ where sketches are kept")
		}
		return p, nil
	}
	for _, tier := range slices.Backward(tiers) {
		if p.fits(int64(tier)) {
			p.Tier = tier
			return p, nil
		}
	}
	if readings {
		return p, nil
	}
	return nil, p.noTier(tiers[0])
}

func (p *Plan) segments() {
	simple, most := true, 1
	for i := range p.Windows {
		w := &p.Windows[i]
		most = max(most, len(w.Pieces))
		if w.Pieces != nil || i > 0 && p.Windows[i-1].To != w.From {
			simple = false
		}
	}
	p.bounds = make([]int64, 0, len(p.Windows)+most)
	p.eachPiece(most, func(_ int, s Span) {
		if n := len(p.bounds); n == 0 || p.bounds[n-1] != s.From {
			p.bounds = append(p.bounds, s.From)
		}
		p.bounds = append(p.bounds, s.To)
	})
	if len(p.bounds) == 0 { // all of it was left out of the calendar
		p.bounds = append(p.bounds, p.Windows[0].From)
	}
	if !slices.IsSorted(p.bounds) {
		slices.Sort(p.bounds)
	}
	p.bounds = slices.Compact(p.bounds)
	if simple {
		return
	}
	p.parts = make([][]int, len(p.Windows))
	next := 0
	p.eachPiece(most, func(window int, s Span) {
		from := p.place(s.From, next)
		next = p.place(s.To, from+1)
		p.parts[window] = append(p.parts[window], from, next)
	})
}

// eachPiece goes through the pieces of all windows: the first of each, then the second of
// each. So those of folded windows come in order of time, or nearly.
func (p *Plan) eachPiece(most int, do func(window int, s Span)) {
	for k := range most {
		for i := range p.Windows {
			w := &p.Windows[i]
			switch {
			case k < len(w.Pieces):
				do(i, w.Pieces[k])
			case k == 0 && w.Pieces == nil:
				do(i, w.Span)
			}
		}
	}
}

// place returns which of the bounds an edge is; near a guess it is found first.
func (p *Plan) place(edge int64, guess int) int {
	if guess < len(p.bounds) && p.bounds[guess] == edge {
		return guess
	}
	at, _ := slices.BinarySearch(p.bounds, edge)
	return at
}

func (p *Plan) fits(width int64) bool {
	for _, b := range p.bounds {
		if b%width != 0 {
			return false
		}
	}
	return true
}

func (p *Plan) noTier(narrowest series.Tier) error {
	finest := int64(narrowest)
	for _, b := range p.bounds {
		if b%finest == 0 {
			continue
		}
		lower := b - b%finest
		return fmt.Errorf("a window with an edge at %s cannot be answered exactly: only summaries of %s are kept here; use widths and times that are multiples of it, such as %s or %s, or ask the gateway, which has the readings",
			at(b), span.Format(narrowest.Width()), at(lower), at(lower+finest))
	}
	return nil
}

func at(t int64) string { return time.Unix(0, t).UTC().Format(time.RFC3339Nano) }

// From returns the start of the first window.
func (p *Plan) From() int64 { return p.bounds[0] }

// To returns the end of the last.
func (p *Plan) To() int64 { return p.bounds[len(p.bounds)-1] }

// Merges returns how many segments all windows are put together from.
func (p *Plan) Merges() (n int) {
	for _, part := range p.parts {
		for i := 0; i < len(part); i += 2 {
			n += part[i+1] - part[i]
		}
	}
	return n
}

// Cut reports whether an edge lies inside from < t < to.
func (p *Plan) Cut(from, to int64) bool {
	i, _ := slices.BinarySearch(p.bounds, from+1)
	return i < len(p.bounds) && p.bounds[i] < to
}

// MultipleOf reports whether all edges are multiples of a width.
func (p *Plan) MultipleOf(width time.Duration) bool { return p.fits(int64(width)) }

// Segments returns how many there are.
func (p *Plan) Segments() int { return len(p.bounds) - 1 }

// Why says why rows of the plan's tier are read and not of a wider one of those that are
// kept; "" when there is none.
func (p *Plan) Why(tiers []series.Tier) string {
	for _, tier := range tiers {
		if tier <= p.Tier {
			continue
		}
		for _, b := range p.bounds {
			if b%int64(tier) != 0 {
				return fmt.Sprintf("a window has an edge at %s, inside a summary of %s", at(b),
					span.Format(tier.Width()))
			}
		}
		return "the stats need the readings themselves"
	}
	return ""
}

package main

import (
	"slices"
	"time"
)

// pairs holds measurements taken in turn: ours, reference, ours, reference …
// A busy neighbour then slows both, and the ratio is the median of the pairs'.
type pairs struct{ ours, reference, ratios []float64 }

func (p *pairs) add(ours, reference float64) {
	p.ours, p.reference = append(p.ours, ours), append(p.reference, reference)
	p.ratios = append(p.ratios, ours/reference)
}

// inTurn times both so many times, in seconds.
func inTurn(n int, ours, reference func() error) (p pairs, err error) {
	for range n {
		var took [2]float64
		for i, f := range []func() error{ours, reference} {
			begun := time.Now()
			if err := f(); err != nil {
				return p, err
			}
			took[i] = time.Since(begun).Seconds()
		}
		p.add(took[0], took[1])
	}
	return p, nil
}

// row returns a row of the medians, with the ratios between which half of the pairs lie.
func (p pairs) row(unit string, scale float64, reference, goal string, met func(ratio float64) bool) Row {
	row := Row{
		Unit: unit, Ours: scale * median(p.ours), Reference: reference, ReferenceValue: scale * median(p.reference),
		Ratio: median(p.ratios), Low: quantile(p.ratios, 0.25), High: quantile(p.ratios, 0.75), Goal: goal,
	}
	row.Met = met(row.Ratio)
	return row
}

// times returns a row in milliseconds whose ratio is how many times as fast ours is.
func (p pairs) times(reference, goal string, least float64) Row {
	for i, r := range p.ratios {
		p.ratios[i] = 1 / r
	}
	return p.row("ms", 1e3, reference, goal, func(ratio float64) bool { return ratio >= least })
}

func known(float64) bool { return true }

func median(v []float64) float64 { return quantile(v, 0.5) }

func quantile(v []float64, q float64) float64 {
	v = slices.Sorted(slices.Values(v))
	return v[int(q*float64(len(v)-1)+0.5)]
}

// Package excursion finds when a series left its normal range, and when it was silent, from summaries of windows.
package excursion

import (
	"math"

	"nexocumula/internal/core/series"
)

// Window is the summary of a window of a series. Times are nanoseconds since 1970.
type Window struct {
	From, To     int64
	Count        float64
	Min, Max     float64 // of a window without readings of no meaning
	MinAt, MaxAt int64
}

// Excursion is a stretch in which a series was on one side outside of its inner normal range. It begins and ends
// with the windows that readings of it are in.
type Excursion struct {
	From, To int64
	High     bool    // above, not below
	Outer    bool    // some of it outside of the outer range too
	Extreme  float64 // the furthest value
	At       int64   // when that was, first
	Over     bool    // there was a window within the range after it
}

// Find returns the excursions of a series in order of their begin. Windows without readings neither
// end one nor begin one. windows are in order of time.
func Find(windows []Window, normal series.Normal) (out []Excursion) {
	inner, outer := normal.Ranges()
	if inner == series.Anything { // what is acceptable is all that is known
		inner = outer
	}
	var open [2]*Excursion // below, above
	for i := range windows {
		w := &windows[i]
		if w.Count == 0 {
			continue
		}
		for side, high := range []bool{false, true} {
			value, at, outside, beyond := w.Min, w.MinAt, w.Min < inner.Low, w.Min < outer.Low
			if high {
				value, at, outside, beyond = w.Max, w.MaxAt, w.Max > inner.High, w.Max > outer.High
			}
			e := open[side]
			switch {
			case !outside && e != nil:
				e.Over = true
				out, open[side] = append(out, *e), nil
				continue
			case !outside:
				continue
			case e == nil:
				e = &Excursion{From: w.From, High: high, Extreme: value, At: at}
				open[side] = e
			case high && value > e.Extreme || !high && value < e.Extreme:
				e.Extreme, e.At = value, at
			}
			e.To, e.Outer = w.To, e.Outer || beyond
		}
	}
	for _, e := range open {
		if e != nil {
			out = append(out, *e)
		}
	}
	return inOrder(out)
}

func inOrder(all []Excursion) []Excursion {
	for i := 1; i < len(all); i++ { // few, and nearly in order
		for k := i; k > 0 && all[k].From < all[k-1].From; k-- {
			all[k], all[k-1] = all[k-1], all[k]
		}
	}
	return all
}

// Silence is a stretch without readings.
type Silence struct {
	From, To int64
	Over     bool // readings came after it
}

// Silences returns the stretches of windows without readings that are longer than a time. heard says that there
// were readings before the first window.
func Silences(windows []Window, longest int64, heard bool) (out []Silence) {
	begun := int64(math.MinInt64)
	if len(windows) > 0 && heard {
		begun = windows[0].From
	}
	for _, w := range windows {
		switch {
		case w.Count == 0 && begun == math.MinInt64 && heard:
			begun = w.From
		case w.Count > 0:
			if begun != math.MinInt64 && w.From-begun > longest {
				out = append(out, Silence{begun, w.From, true})
			}
			heard, begun = true, math.MinInt64
		}
	}
	if n := len(windows); n > 0 && begun != math.MinInt64 && windows[n-1].To-begun > longest {
		out = append(out, Silence{begun, windows[n-1].To, false})
	}
	return out
}

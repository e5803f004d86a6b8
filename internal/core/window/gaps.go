package window

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
)

// Gaps says what stands in a window without data.
type Gaps struct {
	Mode  GapMode
	Value float64       // of Number only
	Limit time.Duration // of Carry: how old the value may be at the window's start; 0: any age
}

// GapMode is one of the ways to treat a window without data.
type GapMode string

// The modes.
const (
	Leave  GapMode = "leave" // nothing
	Carry  GapMode = "carry" // the last known value
	Join   GapMode = "join"  // the straight line between the neighbours
	Number GapMode = "number"
)

// ParseGaps reads leave, carry, carry:30m, join or a number; the empty text is leave.
func ParseGaps(text string) (Gaps, error) {
	switch mode := GapMode(text); mode {
	case "":
		return Gaps{Mode: Leave}, nil
	case Leave, Carry, Join:
		return Gaps{Mode: mode}, nil
	}
	if limit, ok := strings.CutPrefix(text, "carry:"); ok {
		length, err := span.Parse(limit)
		if err != nil {
			return Gaps{}, fmt.Errorf("gaps %q: %w", text, err)
		}
		return Gaps{Mode: Carry, Limit: length}, nil
	}
	v, err := strconv.ParseFloat(text, 64)
	if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
		return Gaps{}, fmt.Errorf("gaps %q: use leave, carry, carry:30m for values no older than that, join or a number",
			text)
	}
	return Gaps{Mode: Number, Value: v}, nil
}

// String returns the text ParseGaps reads.
func (g Gaps) String() string {
	switch {
	case g.Mode == Number:
		return strconv.FormatFloat(g.Value, 'g', -1, 64)
	case g.Limit > 0:
		return string(g.Mode) + ":" + span.Format(g.Limit)
	}
	return string(g.Mode)
}

// For reports whether the gaps make sense in series of a kind: between two states there is
// no third one halfway.
func (g Gaps) For(kind series.Kind) bool { return g.Mode != Join || kind != series.State }

// fill puts values into the windows without a reading and marks them; what is known of
// such a window, as a reading before it still holds, stays. before is the last reading
// before each window.
func (r *Rows) fill(windows []Window, gaps Gaps, stats []Stat, kind series.Kind, before []known) {
	if gaps.Mode == Leave || gaps.Mode == "" {
		return
	}
	last := -1 // the last window with a reading
	for i := range windows {
		if !r.noReading[i] {
			last = i
			continue
		}
		switch gaps.Mode {
		case Number:
			r.fillOne(i, stats, kind, func(int) float64 { return gaps.Value })
		case Carry:
			if b := before[i]; b.yes && (gaps.Limit == 0 || windows[i].Start()-b.at <= int64(gaps.Limit)) {
				r.fillOne(i, stats, kind, func(stat int) float64 { return r.convert(stat, b.value) })
			}
		case Join:
			next := i
			for next < len(windows) && r.noReading[next] {
				next++
			}
			if last < 0 || next == len(windows) {
				continue
			}
			share := float64(i-last) / float64(next-last)
			r.fillOne(i, stats, kind, func(stat int) float64 {
				return between(r.Stats[stat][last], r.Stats[stat][next], share, kind, 360*r.units[stat].Scale)
			})
		}
	}
	for i := range r.Filled {
		r.Empty[i] = r.Empty[i] && !r.Filled[i]
	}
}

// between returns the straight line from a to b; on a circle of a turn the short way round.
func between(a, b, share float64, kind series.Kind, turn float64) float64 {
	if kind == series.Bearing {
		return math.Mod(a+share*(math.Mod(b-a+1.5*turn, turn)-turn/2)+turn, turn)
	}
	return a + share*(b-a)
}

func (r *Rows) fillOne(i int, stats []Stat, kind series.Kind, value func(stat int) float64) {
	r.Filled[i] = true
	for k, s := range stats {
		if s.IsValue() && s.For(kind) && math.IsNaN(r.Stats[k][i]) {
			r.Stats[k][i] = value(k)
			if r.Unknown[k] != nil {
				r.Unknown[k][i] = false
			}
		}
	}
}

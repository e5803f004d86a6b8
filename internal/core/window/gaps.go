package window

import (
	"fmt"
	"math"
	"strconv"
)

// Gaps says what stands in a window without data.
type Gaps struct {
	Mode  GapMode
	Value float64 // of Number only
}

// GapMode is one of the ways to treat a window without data.
type GapMode string

// The modes.
const (
	Leave  GapMode = "leave" // no row
	Carry  GapMode = "carry" // the last known value
	Join   GapMode = "join"  // the straight line between the neighbours
	Number GapMode = "number"
)

// ParseGaps reads leave, carry, join or a number; the empty text is leave.
func ParseGaps(s string) (Gaps, error) {
	switch mode := GapMode(s); mode {
	case "":
		return Gaps{Mode: Leave}, nil
	case Leave, Carry, Join:
		return Gaps{Mode: mode}, nil
	}
	v, err := strconv.ParseFloat(s, 64)
	if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
		return Gaps{}, fmt.Errorf("gaps %q: use leave, carry, join or a number", s)
	}
	return Gaps{Mode: Number, Value: v}, nil
}

// String is the text ParseGaps reads.
func (g Gaps) String() string {
	if g.Mode == Number {
		return strconv.FormatFloat(g.Value, 'g', -1, 64)
	}
	return string(g.Mode)
}

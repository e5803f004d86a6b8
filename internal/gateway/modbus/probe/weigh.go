package probe

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"nexocumula/internal/gateway/modbus"
)

// weigh says how likely an interpretation is: the logarithm of how usual it is among devices,
// and of how improbable it is that words which mean something else look as these do.
func (one *Interpretation) weigh(raw []float64, samples []Sample, at int, unusualScale float64, h Hints) {
	one.Score = -unusual[one.Type]
	if one.LowWordFirst {
		one.Score -= unusualWords
	}
	if one.LowByteFirst {
		one.Score -= unusualBytes
	}
	float := strings.HasPrefix(one.Type, "float")
	if one.Score -= unusualScale; float && one.Scale != 1 {
		one.Score -= unusualFloat
	}
	if h.Low < 0 && !math.IsInf(h.Low, -1) && strings.HasPrefix(one.Type, "u") {
		one.Score -= 1 // it can never be below 0
	}
	one.inRange(h, telling(samples, at, one.Words))
	one.moves(h)
	one.smooth(h)
	switch {
	case float:
		one.likeAFloat(raw)
	case strings.HasPrefix(one.Type, "bcd"):
		one.likeDecimals(samples, at)
	}
	one.wide(samples, at)
}

// inRange counts a value that lies where it is expected: the fewer patterns of bits do, the
// more that says.
func (one *Interpretation) inRange(h Hints, words int) {
	known := !math.IsInf(h.Low, -1) || !math.IsInf(h.High, 1)
	low, high := h.Low, h.High
	if !known { // what people measure
		if low, high = -1e5, 1e5; one.Values[0] >= 0 {
			low = 0
		}
	}
	for _, v := range one.Values {
		if v < low || v > high {
			if one.Score -= 4; known {
				one.Score -= 16
			}
			return
		}
	}
	chance := one.chance(low, high, words)
	if !known {
		one.Score += min(2, -math.Log(chance))
		return
	}
	one.Score += min(9, -math.Log(chance))
	one.Why = append(one.Why, fmt.Sprintf("within %s to %s", short(low), short(high)))
}

func short(v float64) string { return strconv.FormatFloat(v, 'g', 6, 64) }

// telling returns how many of the words tell something: those that are always 0, or all ones, are as
// often not used at all.
func telling(samples []Sample, at, words int) (n int) {
	for w := range words {
		first := samples[0].Words[at+w]
		if first != 0 && first != 0xffff || slices.ContainsFunc(samples,
			func(s Sample) bool { return s.Words[at+w] != first }) {
			n++
		}
	}
	return max(n, 1)
}

// chance returns the share of all patterns of bits that read as low to high; of an integer in so many
// words.
func (one *Interpretation) chance(low, high float64, words int) float64 {
	bits := float64(16 * words)
	switch {
	case strings.HasPrefix(one.Type, "float"):
		octaves := func(v float64) float64 { return math.Log2(max(math.Abs(v), 1e-3) / 1e-3) }
		share := math.Abs(octaves(high)-octaves(low)) + 0.1
		if low < 0 && high > 0 {
			share = octaves(high) + octaves(low) + 0.2
		}
		return min(1, share/map[int]float64{2: 512, 4: 4096}[one.Words])
	default:
		return min(1, max(high-low, one.Scale)/one.Scale/math.Pow(2, bits))
	}
}

// moves counts a value that moves as one does that is known to move like it.
func (one *Interpretation) moves(h Hints) {
	if len(h.Like) != len(one.Values) || len(h.Like) < 3 {
		return
	}
	r, ok := correlation(h.Like, one.Values)
	switch {
	case !ok:
		one.Score -= 3 // it stands still
	case r > 0.9:
		one.Score += 6 * (r - 0.5)
		one.Why = append(one.Why, fmt.Sprintf("moves like the reference (%.2f)", r))
	default:
		one.Score -= 3 * (1 - r)
	}
}

// correlation is Pearson's; ok is false when one of the two stands still.
func correlation(a, b []float64) (r float64, ok bool) {
	mean := func(v []float64) (m float64) {
		for _, x := range v {
			m += x / float64(len(v))
		}
		return m
	}
	ma, mb := mean(a), mean(b)
	var ab, aa, bb float64
	for i := range a {
		ab += (a[i] - ma) * (b[i] - mb)
		aa += (a[i] - ma) * (a[i] - ma)
		bb += (b[i] - mb) * (b[i] - mb)
	}
	if aa == 0 || bb == 0 {
		return 0, false
	}
	return ab / math.Sqrt(aa*bb), true
}

// smooth counts against a value that jumps about: water does not, and the low half of a wide
// value that is taken for its high half does.
func (one *Interpretation) smooth(h Hints) {
	size := 0.0
	for _, v := range one.Values {
		size = max(size, math.Abs(v))
	}
	if !math.IsInf(h.Low, 0) && !math.IsInf(h.High, 0) {
		size = min(size, h.High-h.Low)
	}
	jump, still := 0.0, true
	for i := 1; i < len(one.Values); i++ {
		by := math.Abs(one.Values[i] - one.Values[i-1])
		jump, still = max(jump, by), still && by == 0
	}
	switch {
	case len(one.Values) < 2:
	case size == 0:
		one.Score -= 3
		one.Why = append(one.Why, "always 0")
	case still:
		one.Score -= 1
	case jump > 0.5*size:
		one.Score -= 5
		one.Why = append(one.Why, "jumps about")
	case jump < 0.1*size:
		one.Score += 1.5
		one.Why = append(one.Why, "moves smoothly")
	}
}

// likeAFloat counts a float that a person could have written: few digits, or of ordinary size.
func (one *Interpretation) likeAFloat(raw []float64) {
	digits := 0
	for _, v := range raw {
		if a := math.Abs(v); v != 0 && (a < 1e-6 || a > 1e12) {
			one.Score -= 8
			return
		}
		precision := map[int]int{2: 32, 4: 64}[one.Words]
		text := strings.TrimLeft(strings.ReplaceAll(strconv.FormatFloat(math.Abs(v), 'f', -1, precision), ".", ""), "0")
		digits = max(digits, len(strings.TrimRight(text, "0")))
	}
	if most := map[int]int{2: 5, 4: 9}[one.Words]; digits <= most &&
		slices.ContainsFunc(raw, func(v float64) bool { return v != 0 }) {
		one.Score += 3
		one.Why = append(one.Why, "has few digits")
	}
}

// likeDecimals counts digits that are none above 9, all the more the more of them there were.
func (one *Interpretation) likeDecimals(samples []Sample, at int) {
	seen := map[[2]uint16]bool{} // place and digit
	for _, s := range samples {
		for w := range one.Words {
			for shift := 0; shift < 16; shift += 4 {
				if digit := s.Words[at+w] >> shift & 15; digit != 0 {
					seen[[2]uint16{uint16(16*w + shift), digit}] = true
				}
			}
		}
	}
	one.Score += 0.47 * float64(len(seen)) // 10 of 16 digits are possible
	if len(seen) > 4 {
		one.Why = append(one.Why, "all digits are decimal")
	}
}

// wide counts against a wide value whose highest words say nothing: a narrower one says as
// much.
func (one *Interpretation) wide(samples []Sample, at int) {
	if one.Words == 1 || strings.HasPrefix(one.Type, "float") {
		return
	}
	top := at
	if one.LowWordFirst {
		top = at + one.Words - 1
	}
	if first := samples[0].Words[top]; first == 0 || first == 0xffff {
		if !slices.ContainsFunc(samples, func(s Sample) bool { return s.Words[top] != first }) {
			one.Score -= 1.5
		}
	}
}

// Known returns the names of the types, for help.
func Known() (out []string) {
	for _, t := range modbus.Types() {
		out = append(out, t.Name)
	}
	return out
}

package window

import "nexocumula/internal/core/rollup"

// Conditions reports whether there are any among the stats.
func (r *Reducer) Conditions() bool { return len(r.tracks) > 0 }

// Tells reports whether a summary of from <= time < to says of each condition among the stats exactly what its
// readings do: that it never held, or all the time.
func (r *Reducer) Tells(from, to int64, s *rollup.Summary) bool {
	for _, t := range r.tracks {
		never := s.Max < t.low || s.Min > t.high
		always := t.holds(s.Min) && t.holds(s.Max) && int64(s.Covered) == to-from
		if !never && !always {
			return false
		}
	}
	return true
}

package mqtt

import (
	"slices"
	"strings"

	"nexocumula/internal/core/series"
)

// uncovered returns the filters without those that another one covers, in their order.
func uncovered(filters []string) []string {
	var out []string
	for i, f := range filters {
		covered := slices.Contains(filters[:i], f) ||
			slices.ContainsFunc(filters, func(other string) bool { return other != f && covers(other, f) })
		if !covered {
			out = append(out, f)
		}
	}
	return out
}

// covers reports whether every topic that matches the filter b matches a (MQTT 5.0, 4.7).
func covers(a, b string) bool {
	as, bs := strings.Split(a, "/"), strings.Split(b, "/")
	if strings.HasPrefix(b, "$") && bs[0] != as[0] {
		return false // wildcards do not match topics that begin with $
	}
	return series.Covers(as, bs)
}

// overlapping returns the pairs of filters that have topics in common.
func overlapping(filters []string) (out [][2]string) {
	for i, a := range filters {
		for _, b := range filters[:i] {
			if meet(a, b) {
				out = append(out, [2]string{b, a})
			}
		}
	}
	return out
}

func meet(a, b string) bool {
	as, bs := strings.Split(a, "/"), strings.Split(b, "/")
	if (strings.HasPrefix(a, "$") || strings.HasPrefix(b, "$")) && as[0] != bs[0] {
		return false
	}
	return series.Meet(as, bs)
}

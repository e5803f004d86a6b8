package series

import (
	"fmt"
	"iter"
	"slices"
	"strings"
)

const (
	maxLabels     = 16
	maxLabelBytes = 1000
)

// Labels are the free key=value pairs of a series, as one text: sorted by key and
// joined by commas. As text they can be compared and cost a series without any
// nothing. Get them from MakeLabels or ParseLabels.
type Labels string

// MakeLabels checks pairs. Keys and values are made of the same letters as the levels
// of a path.
func MakeLabels(pairs map[string]string) (Labels, error) {
	if len(pairs) > maxLabels {
		return "", fmt.Errorf("there are %d labels; at most %d are allowed", len(pairs), maxLabels)
	}
	all := make([]string, 0, len(pairs))
	for k, v := range pairs {
		for _, part := range []string{k, v} {
			if err := CheckLevel(part); err != nil {
				return "", fmt.Errorf("label %s=%s: %w", k, v, err)
			}
		}
		all = append(all, k+"="+v)
	}
	slices.Sort(all)
	out := strings.Join(all, ",")
	if len(out) > maxLabelBytes {
		return "", fmt.Errorf("labels are %d bytes long; at most %d are allowed", len(out), maxLabelBytes)
	}
	return Labels(out), nil
}

// ParseLabels reads key=value,key=value; a key may stand once.
func ParseLabels(text string) (Labels, error) {
	pairs := map[string]string{}
	if text == "" {
		return "", nil
	}
	for _, one := range strings.Split(text, ",") {
		k, v, ok := strings.Cut(strings.TrimSpace(one), "=")
		if !ok {
			return "", fmt.Errorf("label %q: write key=value, such as depth=3m", one)
		}
		if _, twice := pairs[k]; twice {
			return "", fmt.Errorf("label %q is given twice", k)
		}
		pairs[k] = v
	}
	return MakeLabels(pairs)
}

// Pairs goes through them, each as key=value, by key.
func (l Labels) Pairs() iter.Seq[string] {
	if l == "" {
		return func(func(string) bool) {}
	}
	return strings.SplitSeq(string(l), ",")
}

// Get returns the value of a key; ok is false when there is none.
func (l Labels) Get(key string) (value string, ok bool) {
	for pair := range l.Pairs() {
		if k, v, _ := strings.Cut(pair, "="); k == key {
			return v, true
		}
	}
	return "", false
}

// Map returns a copy as a map, never nil.
func (l Labels) Map() map[string]string {
	out := map[string]string{}
	for pair := range l.Pairs() {
		k, v, _ := strings.Cut(pair, "=")
		out[k] = v
	}
	return out
}

// Has reports whether all pairs of wanted are among l.
func (l Labels) Has(wanted Labels) bool {
	for pair := range wanted.Pairs() {
		k, v, _ := strings.Cut(pair, "=")
		if have, ok := l.Get(k); !ok || have != v {
			return false
		}
	}
	return true
}

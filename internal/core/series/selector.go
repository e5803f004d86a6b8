package series

import (
	"fmt"
	"strings"
)

// Selector names many series: a path in which a level may be "+" (any one level)
// and the last may be "#" (this level and all below), as in MQTT 5.0, section 4.7.
//
// Where labels are given as well, a series must have all of them.
type Selector struct {
	text   string
	levels []string
	labels Labels
}

// Everything names all series.
func Everything() Selector { return Selector{text: "#", levels: []string{"#"}} }

// ParseSelector checks s.
func ParseSelector(s string) (Selector, error) {
	if s == "" {
		return Selector{}, fmt.Errorf("selector is empty; write a path such as long-mere/+/water_temp, or # for every series")
	}
	if len(s) > maxPathBytes {
		return Selector{}, fmt.Errorf("selector is %d bytes long; at most %d are allowed", len(s), maxPathBytes)
	}
	levels := strings.Split(s, "/")
	for i, level := range levels {
		switch {
		case level == "+":
		case level == "#":
			if i != len(levels)-1 {
				return Selector{}, fmt.Errorf("selector %q: # may only be the last level", s)
			}
		default:
			if err := CheckLevel(level); err != nil {
				return Selector{}, fmt.Errorf("selector %q, level %d: %w (or + for any one level, # at the end for the rest)",
					s, i+1, err)
			}
		}
	}
	return Selector{text: s, levels: levels}, nil
}

// With returns the selector narrowed to series that have all the labels.
func (s Selector) With(labels Labels) Selector {
	s.labels = labels
	return s
}

// Levels returns the parts of the path: names, "+", and at the end perhaps "#".
func (s Selector) Levels() []string { return s.levels }

// Begins returns what every path that the selector names begins with.
func (s Selector) Begins() string {
	for i, level := range s.levels {
		if level == "+" || level == "#" {
			return strings.Join(s.levels[:i], "/") // # is also the level above
		}
	}
	return s.text
}

// Touches reports whether the selector names, as far as it goes, what is at a place or what the place is in: a note about
// a site touches a selector of one of its stations.
func (s Selector) Touches(place string) bool {
	for i, level := range strings.Split(place, "/") {
		if i == len(s.levels) {
			return false
		}
		if want := s.levels[i]; want == "#" {
			return true
		} else if want != "+" && want != level {
			return false
		}
	}
	return true
}

// Labels returns the labels that a series must have.
func (s Selector) Labels() Labels { return s.labels }

// String returns the selector as it was written, with its labels.
func (s Selector) String() string {
	if s.labels == "" {
		return s.text
	}
	return s.text + " with " + string(s.labels)
}

// Match reports whether the selector's path names p. It costs one pass over the path.
func (s Selector) Match(p Path) bool {
	rest := string(p)
	more := true
	for _, want := range s.levels {
		if want == "#" {
			return true // also matches the parent level, MQTT 5.0 4.7.1.2
		}
		if !more {
			return false
		}
		var level string
		level, rest, more = strings.Cut(rest, "/")
		if want != "+" && want != level {
			return false
		}
	}
	return !more
}

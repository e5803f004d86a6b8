package access

import (
	"fmt"
	"slices"
	"strings"

	"nexocumula/internal/core/series"
)

// Scope is which series somebody may see: those that any of the selectors names, all of
// them without any.
type Scope struct {
	selectors []series.Selector
}

const mostSelectors = 100

// ParseScope checks selectors.
func ParseScope(texts []string) (out Scope, err error) {
	if len(texts) > mostSelectors {
		return out, fmt.Errorf("%d selectors are given; at most %d are kept", len(texts), mostSelectors)
	}
	for _, text := range texts {
		one, err := series.ParseSelector(text)
		if err != nil {
			return Scope{}, err
		}
		out.selectors = append(out.selectors, one)
	}
	if slices.Contains(texts, "#") {
		return Scope{}, nil
	}
	return out, nil
}

// Everything reports whether there is no limit.
func (s Scope) Everything() bool { return len(s.selectors) == 0 }

// Sees reports whether a series is among them.
func (s Scope) Sees(path series.Path) bool {
	return s.Everything() || slices.ContainsFunc(s.selectors, func(one series.Selector) bool { return one.Match(path) })
}

// Touches reports whether any series of a site can be among them.
func (s Scope) Touches(site string) bool {
	return s.Everything() || slices.ContainsFunc(s.selectors, func(one series.Selector) bool {
		first := one.Levels()[0]
		return first == site || first == "+" || first == "#"
	})
}

// Covers reports whether all series of a site are among them.
func (s Scope) Covers(site string) bool {
	return s.Everything() || slices.ContainsFunc(s.selectors, func(one series.Selector) bool {
		levels := one.Levels()
		return len(levels) == 2 && levels[1] == "#" && (levels[0] == site || levels[0] == "+")
	})
}

// includes reports whether every path that narrow names is named by wide.
func includes(wide, narrow []string) bool {
	for i, level := range wide {
		if level == "#" {
			return i <= len(narrow)
		}
		if i >= len(narrow) || narrow[i] == "#" || level != "+" && level != narrow[i] {
			return false
		}
	}
	return len(wide) == len(narrow)
}

// Includes reports whether all series that a selector may name are among them.
func (s Scope) Includes(selector series.Selector) bool {
	return s.Everything() || slices.ContainsFunc(s.selectors,
		func(one series.Selector) bool { return includes(one.Levels(), selector.Levels()) })
}

// List returns the selectors as they were written; none names everything.
func (s Scope) List() []string {
	out := make([]string, len(s.selectors))
	for i, one := range s.selectors {
		out[i] = one.String()
	}
	return out
}

func (s Scope) text() string { return strings.Join(s.List(), "\n") }

// scopeOf reads what text wrote.
func scopeOf(text string) (Scope, error) {
	return ParseScope(strings.FieldsFunc(text, func(r rune) bool { return r == '\n' }))
}

// SeesAll reports whether a place is to be seen with all that is below it: a series, or a
// station or site of which every series is.
func (s Scope) SeesAll(about string) bool {
	return s.Everything() || slices.ContainsFunc(s.selectors,
		func(one series.Selector) bool { return About(one, about) })
}

// About reports whether a selector names a place with all that is below it.
func About(selector series.Selector, about string) bool {
	levels := strings.Split(about, "/")
	return includes(selector.Levels(), append(levels, "#")) || len(levels) > 1 && selector.Match(series.Path(about))
}

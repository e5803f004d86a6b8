package payload

import (
	"fmt"
	"strings"

	"nexocumula/internal/core/series"
)

// Topic is a pattern over MQTT topics. A level may be {name}, which takes any one
// level and can be used in a Template (the braces are those of RFC 6570), "+",
// which takes any one level, or, as the last, "#", which takes the rest.
type Topic struct {
	text   string
	levels []string
}

// ParseTopic checks s.
func ParseTopic(s string) (Topic, error) {
	if s == "" {
		return Topic{}, fmt.Errorf("topic is empty; write one such as buoy/{buoy}/state")
	}
	levels := strings.Split(s, "/")
	seen := map[string]bool{}
	for i, level := range levels {
		name, isName, err := bracedName(level)
		switch {
		case err != nil:
			return Topic{}, fmt.Errorf("topic %q, level %d: %w", s, i+1, err)
		case isName && seen[name]:
			return Topic{}, fmt.Errorf("topic %q uses {%s} twice", s, name)
		case isName:
			seen[name] = true
		case level == "+":
		case level == "#":
			if i != len(levels)-1 {
				return Topic{}, fmt.Errorf("topic %q: # may only be the last level", s)
			}
		case strings.ContainsAny(level, "+#\x00"):
			return Topic{}, fmt.Errorf("topic %q, level %d: %q mixes a wildcard with text", s, i+1, level)
		}
	}
	return Topic{text: s, levels: levels}, nil
}

func bracedName(level string) (name string, ok bool, err error) {
	if !strings.ContainsAny(level, "{}") {
		return "", false, nil
	}
	name = strings.TrimSuffix(strings.TrimPrefix(level, "{"), "}")
	if len(name)+2 != len(level) || series.CheckLevel(name) != nil {
		return "", false, fmt.Errorf("%q must be a whole level {name}", level)
	}
	return name, true, nil
}

// String returns the topic as it was written.
func (t Topic) String() string { return t.text }

// Filter returns the MQTT topic filter to subscribe to.
func (t Topic) Filter() string {
	out := make([]string, len(t.levels))
	for i, level := range t.levels {
		out[i] = level
		if strings.HasPrefix(level, "{") {
			out[i] = "+"
		}
	}
	return strings.Join(out, "/")
}

// covers reports whether every topic that matches b matches a.
func covers(a, b Topic) bool {
	as, bs := strings.Split(a.Filter(), "/"), strings.Split(b.Filter(), "/")
	if strings.HasPrefix(bs[0], "$") && as[0] != bs[0] {
		return false
	}
	return series.Covers(as, bs)
}

// Names returns the {names} the pattern binds.
func (t Topic) Names() []string {
	var names []string
	for _, level := range t.levels {
		if name, ok, _ := bracedName(level); ok {
			names = append(names, name)
		}
	}
	return names
}

// Match binds the names to the levels of a topic that arrived.
func (t Topic) Match(topic string) (bound map[string]string, ok bool) {
	got := strings.Split(topic, "/")
	for i, level := range t.levels {
		if level == "#" {
			return bound, true
		}
		if i >= len(got) {
			return nil, false
		}
		if strings.HasPrefix(level, "{") {
			if bound == nil {
				bound = map[string]string{}
			}
			bound[level[1:len(level)-1]] = got[i]
		} else if level != "+" && level != got[i] {
			return nil, false
		}
	}
	return bound, len(got) == len(t.levels)
}

// Template is a series path in which {name} stands for a bound level.
type Template string

// ParseTemplate checks that every {name} in s is one of names, and that the rest
// is a path.
func ParseTemplate(s string, names []string) (Template, error) {
	trial := s
	for _, name := range names {
		trial = strings.ReplaceAll(trial, "{"+name+"}", "x")
	}
	if i := strings.IndexByte(trial, '{'); i >= 0 {
		name, _, _ := strings.Cut(trial[i+1:], "}")
		return "", fmt.Errorf("series %q uses {%s}, which neither topic nor payload binds (there is %s)", s, name,
			orNothing(names))
	}
	for i, level := range strings.Split(trial, "/") {
		if err := series.CheckLevel(level); err != nil {
			return "", fmt.Errorf("series %q, level %d: %w", s, i+1, err)
		}
	}
	return Template(s), nil
}

func orNothing(names []string) string {
	if len(names) == 0 {
		return "nothing"
	}
	return "{" + strings.Join(names, "}, {") + "}"
}

// Path fills the template in and checks the result, since a topic can carry levels
// that no path may.
func (t Template) Path(bound map[string]string) (series.Path, error) {
	s := string(t)
	for name, level := range bound {
		s = strings.ReplaceAll(s, "{"+name+"}", level)
	}
	return series.ParsePath(s)
}

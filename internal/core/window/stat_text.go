package window

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/agnivade/levenshtein"

	"nexocumula/internal/core/series"
)

// mostStats bounds what one query may ask for.
const mostStats = 40

// Names lists the stats that ParseStats knows, for messages, help and the interface's description.
func Names() string {
	var names []string
	for _, k := range kinds {
		switch k.takes {
		case aState:
			names = append(names, k.name+":STATE")
		case perTime:
			names = append(names, k.name+" or "+k.name+"/h")
		case nothing:
			names = append(names, k.name)
		}
	}
	return strings.Join(names, ", ") + ", above:VALUE, below:VALUE or between:LOW..HIGH and the same with _share, _times, _longest, _first and _last, or a percentile such as p95, from sketches p95~"
}

// LineNames lists the stats without an argument that make a line: all but points in time.
func LineNames() (names []string) {
	for _, k := range kinds {
		if (k.takes == nothing || k.takes == perTime) && k.measure != aTime {
			names = append(names, k.name)
		}
	}
	return names
}

// ParseStats reads a comma-separated list; the empty text is none, which Usual stands in
// for.
func ParseStats(text string) ([]Stat, error) {
	if text == "" {
		return nil, nil
	}
	var out []Stat
	for i, one := range strings.Split(text, ",") {
		one = strings.TrimSpace(one)
		if one == "" {
			return nil, fmt.Errorf("stat %d of %q is empty; write names with a comma between two, such as mean,max",
				i+1, text)
		}
		stat, err := parseStat(one)
		if err != nil {
			return nil, err
		}
		stat.Asked = one
		if slices.ContainsFunc(out, stat.Same) {
			return nil, fmt.Errorf("stat %q is asked for twice", one)
		}
		if out = append(out, stat); len(out) > mostStats {
			return nil, fmt.Errorf("more than %d stats are asked for; ask for fewer at once", mostStats)
		}
	}
	return out, nil
}

// Usual returns the default stats: mean, min, max, count and coverage, as
// far as any of the kinds has them.
func Usual(of []series.Kind) (out []Stat) {
	for _, name := range []string{"mean", "min", "max", "count", "coverage"} {
		if s := (Stat{Name: name}); len(of) == 0 || slices.ContainsFunc(of, s.For) {
			out = append(out, s)
		}
	}
	return out
}

func parseStat(text string) (Stat, error) {
	if s, ok, err := parsePercentile(text); ok || err != nil {
		return s, err
	}
	name, value, has := strings.Cut(text, ":")
	name, per, isPer := strings.Cut(name, "/")
	for _, k := range kinds {
		if k.name != name {
			continue
		}
		out, err := k.parse(value, has, per, isPer)
		if err != nil {
			return Stat{}, fmt.Errorf("stat %q: %w", text, err)
		}
		return out, nil
	}
	return Stat{}, fmt.Errorf("stat %q is not known%s; use some of %s", text, near(name), Names())
}

// otherNames lists what people call stats elsewhere.
var otherNames = map[string]string{
	"average": "mean", "avg": "mean", "minimum": "min", "maximum": "max", "stddev": "sd", "stdev": "sd", "std": "sd", "deviation": "sd", "median": "p50", "total": "sum", "delta": "difference",
	"spread": "range", "derivative": "slope", "n": "count",
}

// near suggests the stat that is meant by a name, or spelled most like it.
func near(name string) string {
	name = strings.ToLower(name)
	if other := otherNames[name]; other != "" {
		return fmt.Sprintf(" (did you mean %q?)", other)
	}
	best, distance := "", 3
	for _, k := range kinds {
		if name == "" || name[0] != k.name[0] {
			continue
		}
		if d := levenshtein.ComputeDistance(name, k.name); d < distance {
			best, distance = k.name, d
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf(" (did you mean %q?)", best)
}

func (k *statKind) parse(value string, has bool, per string, isPer bool) (Stat, error) {
	out := Stat{Name: k.name}
	if isPer && k.takes != perTime {
		return out, fmt.Errorf("%s is not per time; leave /%s out", k.name, per)
	}
	if has && (k.takes == nothing || k.takes == perTime) {
		return out, fmt.Errorf("%s takes no value; leave :%s out", k.name, value)
	}
	var okay bool
	switch k.takes {
	case perTime:
		if isPer && per != "s" {
			if out.Per, okay = perNames[per]; !okay {
				return out, fmt.Errorf("write %s, %s/min, %s/h or %s/d", k.name, k.name, k.name, k.name)
			}
		}
	case aState:
		if !has {
			return out, fmt.Errorf("it needs to be told of which state, as in %s:1", k.name)
		}
		if out.Value, okay = finite(value); !okay {
			return out, fmt.Errorf("a state is a number, as in %s:1", k.name)
		}
	case aBound:
		if out.Value, okay = finite(value); !okay {
			return out, fmt.Errorf("it needs a number to compare with, as in %s:8.5", k.name)
		}
	case aBand:
		low, high, two := strings.Cut(value, "..")
		var lowOkay bool
		out.Value, lowOkay = finite(low)
		if out.High, okay = finite(high); !okay || !lowOkay || !two || out.High < out.Value {
			return out, fmt.Errorf("it needs two numbers, the lower first, as in %s:6..9", k.name)
		}
	}
	return out, nil
}

func finite(text string) (float64, bool) {
	v, err := strconv.ParseFloat(text, 64)
	return v, err == nil && !math.IsNaN(v) && !math.IsInf(v, 0) && !strings.ContainsAny(text, "_xX")
}

func parsePercentile(text string) (s Stat, ok bool, err error) {
	digits, ok := strings.CutPrefix(text, "p")
	if !ok {
		return Stat{}, false, nil
	}
	digits, estimated := strings.CutSuffix(digits, "~")
	v, bad := strconv.ParseFloat(digits, 64)
	switch {
	case bad != nil || strings.Trim(digits, "0123456789.") != "":
		return Stat{}, false, nil
	case v > 100:
		return Stat{}, false, fmt.Errorf("stat %q: there is no percentile above 100; use p0 to p100", text)
	case estimated:
		return Stat{Name: estimate.name, Value: v}, true, nil
	}
	return Stat{Name: percentile.name, Value: v}, true, nil
}

// Same reports whether two are the same stat, however they are written.
func (s Stat) Same(o Stat) bool {
	s.Asked, o.Asked = "", ""
	return s == o
}

// String returns the stat as it was asked for, or the text ParseStats reads.
func (s Stat) String() string {
	if s.Asked != "" {
		return s.Asked
	}
	number := strconv.FormatFloat(s.Value, 'g', -1, 64)
	switch k := s.kind(); {
	case s.IsPercentile():
		return "p" + strconv.FormatFloat(s.Value, 'f', -1, 64)
	case s.IsEstimate():
		return "p" + strconv.FormatFloat(s.Value, 'f', -1, 64) + "~"
	case k.takes == aBand:
		return s.Name + ":" + number + ".." + strconv.FormatFloat(s.High, 'g', -1, 64)
	case k.takes == aState || k.takes == aBound:
		return s.Name + ":" + number
	case s.Per > 0:
		return s.Name + "/" + s.perText()
	}
	return s.Name
}

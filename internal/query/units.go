package query

import (
	"fmt"
	"slices"
	"strings"

	"nexocumula/internal/core/unit"
	"nexocumula/internal/core/window"
)

// Units says into which units an answer is converted.
type Units struct {
	All string            // values, and what is made of them; "": as they are
	Of  map[string]string // instead of it, those of certain stats, or of calculations
}

// ParseUnits reads a unit for all, and stat=unit for single ones.
func ParseUnits(texts []string) (out Units, err error) {
	for _, text := range texts {
		stat, to, single := strings.Cut(text, "=")
		switch {
		case !single && out.All != "":
			return out, fmt.Errorf("unit is given twice, %s and %s; name the stat of one of them, such as unit=rate=kW",
				out.All, text)
		case !single:
			out.All = text
		case stat == "" || to == "":
			return out, fmt.Errorf("unit %q: write a unit, or a stat, an equals sign and its unit, such as rate=kW",
				text)
		default:
			if out.Of == nil {
				out.Of = map[string]string{}
			}
			if _, twice := out.Of[stat]; twice {
				return out, fmt.Errorf("unit of %s is given twice", stat)
			}
			out.Of[stat] = to
		}
	}
	return out, nil
}

func (u Units) ofCalculation(name string) string {
	if to, ok := u.Of[name]; ok {
		return to
	}
	return u.All
}

// check refuses units of stats that were not asked for.
func (u Units) check(stats []window.Stat, calculations []Calculation) error {
	known := map[string]bool{}
	for _, s := range stats {
		known[s.String()] = true
	}
	for _, c := range calculations {
		known[c.Name] = true
	}
	for stat := range u.Of {
		if !known[stat] {
			return refuse("unit", "unit is given for %s, which is not asked for", stat)
		}
	}
	return nil
}

// converted holds the units of a series' stats: the unit of its values, and for each stat
// its own and the way to it.
type converted struct {
	unit  string
	units []string
	by    []unit.Conversion
}

// convert finds the units of the stats of a series in a unit.
func (u Units) convert(of string, stats []window.Stat) (converted, error) {
	out := converted{unit: of}
	values, mismatch := unit.Conversion{Scale: 1}, error(nil)
	if u.All != "" {
		if values, mismatch = unit.Convert(of, u.All); mismatch == nil {
			out.unit = u.All
		} else {
			values = unit.Conversion{Scale: 1}
		}
	}
	for _, s := range stats {
		name, by, err := u.ofStat(s, of, out.unit, values, mismatch)
		if err != nil {
			return out, err
		}
		out.units, out.by = append(out.units, name), append(out.by, by)
	}
	if mismatch != nil && !slices.ContainsFunc(stats, window.Stat.HasUnit) {
		return out, mismatch // nothing that was asked for is in any unit of the series
	}
	return out, nil
}

// ofStat returns the unit of one stat. values is the conversion of the series' values to the
// unit for all, unless that is of another quantity, as kW is of the rate of kWh: then it
// must be one of the stat's own.
func (u Units) ofStat(s window.Stat, of, to string, values unit.Conversion, mismatch error) (string, unit.Conversion, error) {
	own, scale := s.Unit(of), 1.0
	if s.IsProduct() {
		_, scale = unit.TimesSecond(of)
	}
	wanted, single := u.Of[s.String()]
	if !single && mismatch != nil && s.HasUnit() {
		wanted = u.All
	}
	switch {
	case wanted != "" && !s.HasUnit():
		c, err := unit.Convert(own, wanted)
		if err == nil && c == (unit.Conversion{Scale: 1}) {
			return own, values, nil
		}
		return "", c, fmt.Errorf("stat %s is not in the unit of the series and cannot be converted to %s", s, wanted)
	case wanted != "":
		c, err := unit.Convert(own, wanted)
		if err != nil {
			return "", c, fmt.Errorf("stat %s: %w", s, err)
		}
		c.Scale *= scale
		if !s.IsValue() && s.Name != "sum" {
			c.Offset = 0
		}
		return wanted, c, nil
	case s.IsProduct() && values.Offset != 0:
		return "", values, fmt.Errorf("stat %s: %s and %s do not begin at the same zero, so that their sums over time cannot be converted",
			s, of, to)
	case s.IsProduct():
		_, again := unit.TimesSecond(to)
		return s.Unit(to), unit.Conversion{Scale: values.Scale * again}, nil
	}
	return s.Unit(to), values, nil
}

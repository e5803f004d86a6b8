package query

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
)

// Across puts the rows of many series together into one, or one for each group.
type Across struct {
	Function string // mean, sum, min or max of what the series have in a window
	Level    int    // series with the same names up to this level of the path are a group; 0: not by path
	Label    string // series with the same value of this label are a group; "": not by label
}

// Contributing names the stat that says how many series of a group have readings in a window, or what
// gaps put there.
const Contributing = "contributing"

// Functions that Across knows.
var Functions = []string{"mean", "sum", "min", "max"}

// ParseAcross reads a function and by what to group: nothing for all series together,
// level:2 or label:depth.
func ParseAcross(function, by string) (*Across, error) {
	if function == "" {
		if by != "" {
			return nil, fmt.Errorf("by %q says how series are grouped, which only across asks for; give across as well, such as mean", by)
		}
		return nil, nil
	}
	out := &Across{Function: function}
	if !slices.Contains(Functions, function) {
		return nil, fmt.Errorf("across %q: use %s", function, strings.Join(Functions, ", "))
	}
	kind, value, _ := strings.Cut(by, ":")
	level, err := strconv.Atoi(value)
	switch {
	case by == "":
	case kind == "label" && value != "":
		out.Label = value
	case kind == "level" && err == nil && level >= 1:
		out.Level = level
	default:
		return nil, fmt.Errorf("by %q: use level and a number, such as level:1 for the site, or label and a key, such as label:depth", by)
	}
	return out, nil
}

// group is the name of the group of a series.
func (a *Across) group(s store.Series) string {
	switch {
	case a.Level > 0:
		levels := strings.Split(string(s.Path), "/")
		return strings.Join(levels[:min(a.Level, len(levels))], "/")
	case a.Label != "":
		if v, ok := s.Labels.Get(a.Label); ok {
			return a.Label + "=" + v
		}
		return "without " + a.Label
	}
	return "all"
}

// across hands out one answer a group.
func (r runner) across(ctx context.Context, head Head, found []store.Series) error {
	if err := r.checkAcross(found); err != nil {
		return err
	}
	groups := map[string][]store.Series{}
	var names []string
	for _, s := range found {
		name := r.Across.group(s)
		if groups[name] == nil {
			names = append(names, name)
		}
		groups[name] = append(groups[name], s)
	}
	slices.Sort(names)
	if err := r.sink.Head(head); err != nil {
		return err
	}
	for _, name := range names {
		for i, plan := range r.plans {
			rows, err := r.together(ctx, groups[name], plan)
			if err != nil {
				return err
			}
			rows.Name = name
			if i > 0 {
				rows.Shift = r.Shift
			}
			if err := r.sink.Series(rows); err != nil {
				return err
			}
		}
	}
	return nil
}

// checkAcross refuses what cannot be put together.
func (r runner) checkAcross(found []store.Series) error {
	first := found[0]
	for _, s := range found {
		if s.Unit != first.Unit && r.Unit == "" {
			return refuse("across", "%s is in %s and %s in %s; name series of one unit, or convert with unit", first.Path, named(first.Unit), s.Path, named(s.Unit))
		}
		if (s.Kind == series.Bearing) != (first.Kind == series.Bearing) {
			return refuse("across", "%s is a %s and %s a %s, which cannot be put together", first.Path, first.Kind, s.Path, s.Kind)
		}
	}
	if first.Kind == series.Bearing && r.Across.Function != "mean" {
		return refuse("across", "of bearings there is no %s; use mean, which is that of their directions", r.Across.Function)
	}
	for _, s := range r.Stats {
		if s.IsTime() {
			return refuse("across", "stat %s is a time, of which there is no %s; leave it out", s, r.Across.Function)
		}
	}
	return nil
}

func named(unit string) string {
	if unit == "" {
		return "no unit"
	}
	return unit
}

// together reduces the members of a group one after the other and puts their stats
// together, window by window. Rows that only gaps filled count as well: that is what
// was asked for.
func (r runner) together(ctx context.Context, members []store.Series, plan planned) (SeriesRows, error) {
	n := len(plan.any().Windows)
	out := SeriesRows{Kind: members[0].Kind, Unit: members[0].Unit, Tier: plan.any().Tier, Members: len(members)}
	sums := make([]combined, len(r.Stats))
	for i, stat := range r.Stats {
		out.Stats = append(out.Stats, stat.String())
		sums[i] = newCombined(n+1, r.Across.Function, out.Kind == series.Bearing && stat.HasUnit())
	}
	out.Empty, out.Filled = slices.Repeat([]bool{true}, n), make([]bool, n)
	withData := make([]float64, n)
	for _, s := range members {
		rows, err := r.reduce(ctx, s, plan.of(s), r.Stats)
		if err != nil {
			return out, err
		}
		out.Unit, out.Open = rows.Unit, rows.Open
		out.Coverage += rows.Coverage / float64(len(members))
		for i := range r.Stats {
			sums[i].add(rows.Rows.Stats[i], rows.Empty)
			sums[i].addOne(n, rows.Whole[i])
		}
		for k := range n {
			if rows.Counts[k] > 0 || rows.Filled[k] {
				withData[k]++
			}
			out.Filled[k] = out.Filled[k] || rows.Filled[k]
			out.Empty[k] = out.Empty[k] && rows.Empty[k]
		}
	}
	for i := range sums {
		all := sums[i].finish()
		out.Rows.Stats = append(out.Rows.Stats, all[:n])
		out.Whole = append(out.Whole, all[n])
	}
	out.Stats, out.Rows.Stats, out.Whole = append(out.Stats, Contributing), append(out.Rows.Stats, withData), append(out.Whole, float64(len(members)))
	out.Times = make([][]int64, len(out.Stats))
	return out, nil
}

// combined is one stat of many series, window by window.
type combined struct {
	function    string
	values      []float64
	counts      []float64
	north, east []float64 // of directions only
}

func newCombined(n int, function string, directions bool) combined {
	c := combined{function: function, values: make([]float64, n), counts: make([]float64, n)}
	if directions {
		c.north, c.east = make([]float64, n), make([]float64, n)
	}
	return c
}

// add takes a series in; windows it knows nothing of do not count.
func (c *combined) add(v []float64, empty []bool) {
	for i, x := range v {
		if !empty[i] {
			c.addOne(i, x)
		}
	}
}

func (c *combined) addOne(i int, x float64) {
	if math.IsNaN(x) {
		return
	}
	c.counts[i]++
	switch {
	case c.north != nil:
		sin, cos := math.Sincos(x * math.Pi / 180)
		c.north[i], c.east[i] = c.north[i]+cos, c.east[i]+sin
	case c.counts[i] == 1:
		c.values[i] = x
	case c.function == "min":
		c.values[i] = min(c.values[i], x)
	case c.function == "max":
		c.values[i] = max(c.values[i], x)
	default:
		c.values[i] += x
	}
}

func (c *combined) finish() []float64 {
	for i := range c.values {
		switch {
		case c.counts[i] == 0:
			c.values[i] = math.NaN()
		case c.north != nil:
			c.values[i] = rollup.Summary{Count: c.counts[i], North: c.north[i], East: c.east[i]}.Direction()
		case c.function == "mean":
			c.values[i] /= c.counts[i]
		}
	}
	return c.values
}

package query

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store/engine"
)

// Across puts the rows of many series together into one, or one for each group.
type Across struct {
	Function   string  // of what the series have in a window
	Percentile float64 // when Function is percentile
	Weight     string  // label whose number says how much a series counts; "": all the same
}

// Contributing names the stat that says how many series of a group have readings in a
// window, or what gaps put there.
const Contributing = "contributing"

const percentileOf = "percentile"

var acrossFunctions = []string{"mean", "sum", "min", "max", "sd", "count"}

// ParseAcross reads how series are put together, and the label of their weights.
func ParseAcross(function, weight string) (*Across, error) {
	if function == "" {
		if weight != "" {
			return nil, fmt.Errorf("weight %q says how much each series counts across them; give across as well, such as mean",
				weight)
		}
		return nil, nil
	}
	out := &Across{Function: function}
	digits, isPercentile := strings.CutPrefix(function, "p")
	p, err := strconv.ParseFloat(digits, 64)
	switch {
	case isPercentile && err == nil && p >= 0 && p <= 100 && strings.Trim(digits, "0123456789.") == "":
		out.Function, out.Percentile = percentileOf, p
	case !slices.Contains(acrossFunctions, function):
		return nil, fmt.Errorf("across %q: use %s, or a percentile over the series such as p90", function,
			strings.Join(acrossFunctions, ", "))
	}
	if label, ok := strings.CutPrefix(weight, "label:"); ok && label != "" {
		out.Weight = label
	} else if weight != "" {
		return nil, fmt.Errorf("weight %q: name the label that holds each series' weight, such as label:volume", weight)
	}
	if out.Weight != "" && function != "mean" && function != "sum" {
		return nil, fmt.Errorf("weight goes with across=mean and across=sum; %s takes every series as it is", function)
	}
	return out, nil
}

// weightOf returns how much a series counts.
func (a *Across) weightOf(s engine.Series) (float64, error) {
	if a.Weight == "" {
		return 1, nil
	}
	text, ok := s.Labels.Get(a.Weight)
	if !ok {
		return 0, refuse("across", "%s has no label %s, which says how much it counts", s.Path, a.Weight)
	}
	v, err := strconv.ParseFloat(text, 64)
	if err != nil || math.IsNaN(v) || math.IsInf(v, 0) || v < 0 {
		return 0, refuse("across", "label %s of %s is %q, which is no weight; write a number from 0", a.Weight, s.Path,
			text)
	}
	return v, nil
}

// across hands out one answer a group.
func (r runner) across(ctx context.Context, head Head, found []engine.Series) error {
	if err := r.checkAcross(found); err != nil {
		return err
	}
	groups, names := r.By.groups(found)
	if r.Across.Function == percentileOf {
		largest := 0
		for _, members := range groups {
			largest = max(largest, len(members))
		}
		if cells := largest * len(head.Windows) * len(r.Stats); cells > mostCells {
			return refuse("too_large",
				"a percentile over %d series keeps %d numbers at once; at most %d are possible: ask for fewer windows or stats, or smaller groups",
				largest, cells, mostCells)
		}
	}
	if err := r.sink.Head(head); err != nil {
		return err
	}
	r.ahead = newLookahead(ctx, r.src, r.Stats, func(yield func(engine.Series, *window.Plan) bool) {
		for _, name := range names {
			for _, plan := range r.plans {
				for _, s := range groups[name] {
					if !yield(s, plan.of(s)) {
						return
					}
				}
			}
		}
	})
	defer r.ahead.close()
	for _, name := range names {
		for i, plan := range r.plans {
			rows, err := r.together(ctx, groups[name], plan)
			if err != nil {
				return err
			}
			rows.Name = name
			if i > 0 {
				rows.Shift, rows.Starts = r.Shift, plan.narrowest().Windows
			}
			if err := r.sink.Series(r.finish(rows)); err != nil {
				return err
			}
		}
	}
	return nil
}

// checkAcross refuses what cannot be put together.
func (r runner) checkAcross(found []engine.Series) error {
	first := found[0]
	for _, s := range found {
		if s.Unit != first.Unit && r.Units.All == "" {
			return refuse("across", "%s is in %s and %s in %s; name series of one unit, or convert with unit",
				first.Path, named(first.Unit), s.Path, named(s.Unit))
		}
		if (s.Kind == series.Bearing) != (first.Kind == series.Bearing) {
			return refuse("across", "%s is a %s and %s a %s, which cannot be put together", first.Path, first.Kind,
				s.Path, s.Kind)
		}
		if _, err := r.Across.weightOf(s); err != nil {
			return err
		}
	}
	if first.Kind == series.Bearing && r.Across.Function != "mean" && r.Across.Function != "count" {
		return refuse("across", "of bearings there is no %s; use mean, which is that of their directions",
			r.Across.Function)
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
func (r runner) together(ctx context.Context, members []engine.Series, plan planned) (SeriesRows, error) {
	n := len(plan.narrowest().Windows)
	out := SeriesRows{Kind: members[0].Kind, Unit: members[0].Unit, Tier: plan.narrowest().Tier, Members: len(members)}
	sums := make([]uncertain, len(r.Stats))
	for i, stat := range r.Stats {
		out.Stats = append(out.Stats, stat.String())
		sums[i] = newUncertain(n+1, *r.Across, len(members), stat)
	}
	out.Empty, out.Filled = slices.Repeat([]bool{true}, n), make([]bool, n)
	withData, heard := make([]float64, n), 0.0
	one := r
	one.over = new(window.Reducer)
	for _, s := range members {
		if err := one.ahead.step(); err != nil {
			return out, err
		}
		rows, err := one.reduce(ctx, s, plan.of(s), r.Stats)
		if err != nil {
			return out, err
		}
		weight, err := r.Across.weightOf(s)
		if err != nil {
			return out, err
		}
		out.Unit, out.StatUnits, out.Open, out.Explained = rows.Unit, rows.StatUnits, rows.Open, out.Explained.and(rows.Explained)
		out.Coverage += rows.Coverage / float64(len(members))
		for i, stat := range r.Stats {
			if s.Kind == series.Bearing && stat.IsValue() && sums[i].turn == 0 {
				sums[i].round(rows.turn)
			}
			sums[i].member(rows, i, weight)
		}
		for k := range n {
			if rows.Counts[k] > 0 || rows.Filled[k] {
				withData[k]++
			}
			out.Filled[k] = out.Filled[k] || rows.Filled[k]
			out.Empty[k] = out.Empty[k] && rows.Empty[k]
		}
		if rows.WholeCount > 0 {
			heard++
		} else {
			out.Silent = append(out.Silent, string(s.Path))
		}
	}
	out.WholeLeast, out.WholeMost = make([]float64, len(sums)), make([]float64, len(sums))
	for i := range sums {
		all, least, most := sums[i].finish()
		out.Rows.Stats = append(out.Rows.Stats, all[:n])
		out.Whole = append(out.Whole, all[n])
		if least != nil {
			out.WholeLeast[i], out.WholeMost[i] = least[n], most[n]
			least, most = least[:n], most[:n]
		}
		out.Least, out.Most = append(out.Least, least), append(out.Most, most)
		out.Unknown = append(out.Unknown, sums[i].nowhere(n))
		if reason, ok := sums[i].why(r.Stats[i]); ok {
			out.Why = append(out.Why, reason)
		}
	}
	out.Stats, out.StatUnits = append(out.Stats, Contributing), append(slices.Clone(out.StatUnits), "")
	out.Rows.Stats, out.Whole = append(out.Rows.Stats, withData), append(out.Whole, heard)
	return out, nil
}

// combined is one stat of many series, window by window. A series that has no number in a
// window does not count there; one without data has a count and a coverage of nothing.
type combined struct {
	Across
	values, counts []float64 // counts are of weights
	squares        []float64 // of sd only: squared distances from the mean
	north, east    []float64 // of directions only
	turn           float64   // of directions: a full circle in the unit; 0: no directions
	all            [][]float64
}

func newCombined(n int, across Across, members int) combined {
	c := combined{Across: across, values: make([]float64, n), counts: make([]float64, n)}
	switch across.Function {
	case "sd":
		c.squares = make([]float64, n)
	case percentileOf:
		c.all = make([][]float64, n)
		for i := range c.all {
			c.all[i] = make([]float64, 0, members)
		}
	}
	return c
}

// round makes directions of the values.
func (c *combined) round(turn float64) {
	c.turn, c.north, c.east = turn, make([]float64, len(c.values)), make([]float64, len(c.values))
}

func (c *combined) add(i int, x, weight float64) {
	if math.IsNaN(x) || weight == 0 {
		return
	}
	c.counts[i] += weight
	switch {
	case c.north != nil:
		sin, cos := math.Sincos(x / c.turn * 2 * math.Pi)
		c.north[i], c.east[i] = c.north[i]+weight*cos, c.east[i]+weight*sin
	case c.all != nil:
		c.all[i] = append(c.all[i], x)
	case c.squares != nil: // Welford's update (1962)
		delta := x - c.values[i]
		c.values[i] += delta / c.counts[i]
		c.squares[i] += delta * (x - c.values[i])
	case c.counts[i] == weight:
		c.values[i] = x * weight
	case c.Function == "min":
		c.values[i] = min(c.values[i], x)
	case c.Function == "max":
		c.values[i] = max(c.values[i], x)
	default:
		c.values[i] += x * weight
	}
}

func (c *combined) finish() []float64 {
	for i := range c.values {
		switch n := c.counts[i]; {
		case c.Function == "count":
			c.values[i] = n
		case n == 0:
			c.values[i] = math.NaN()
		case c.north != nil:
			c.values[i] = direction(c.north[i], c.east[i], n, c.turn)
		case c.all != nil:
			slices.Sort(c.all[i])
			c.values[i] = window.Quantile(c.all[i], c.Percentile)
		case c.squares != nil && n < 2:
			c.values[i] = math.NaN()
		case c.squares != nil:
			c.values[i] = math.Sqrt(c.squares[i] / (n - 1))
		case c.Function == "mean":
			c.values[i] /= n
		}
	}
	return c.values
}

// direction of a sum of n unit vectors; NaN when they cancel out.
func direction(north, east, n, turn float64) float64 {
	if math.Hypot(north, east) < 1e-9*n {
		return math.NaN()
	}
	if d := math.Mod(math.Atan2(east, north)/(2*math.Pi)*turn+turn, turn); d < turn {
		return d
	}
	return 0
}

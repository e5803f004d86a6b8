package query

import (
	"cmp"
	"log/slog"
	"maps"
	"math"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
)

// The reference: readings in a slice, windows as stretches of time that belong to them,
// and every stat from its definition. It shares no code with what it judges.

type point struct {
	at int64
	v  float64
}

type reference struct {
	def    series.Definition
	points []point // all of the series, in order
}

// stretch is from <= time < to.
type stretch struct{ from, to int64 }

// frame is one window: the stretches of it that count, in order and apart.
type frame struct {
	from  int64
	place string
	of    []stretch
}

func (f frame) length() (n int64) {
	for _, s := range f.of {
		n += s.to - s.from
	}
	return n
}

// holding are the stretches for which a reading holds within the frame.
func (r reference) holding(f frame, each func(s stretch, v float64)) {
	for _, s := range f.of {
		for i := max(0, r.firstFrom(s.from)-1); i < len(r.points) && r.points[i].at < s.to; i++ {
			p := r.points[i]
			until := p.at + int64(r.def.FreshFor)
			if i+1 < len(r.points) {
				until = min(until, r.points[i+1].at)
			}
			if from, to := max(p.at, s.from), min(until, s.to); from < to {
				each(stretch{from, to}, p.v)
			}
		}
	}
}

func (r reference) stat(name string, f frame) float64 {
	in := make([]point, 0, 1000)
	var increase, restarts, changes, growing float64
	for _, s := range f.of {
		for i := r.firstFrom(s.from); i < len(r.points) && r.points[i].at < s.to; i++ {
			p := r.points[i]
			in = append(in, p)
			if i == 0 {
				continue
			}
			before := r.points[i-1]
			growing += float64(p.at - before.at)
			if p.v != before.v {
				changes++
			}
			switch d := p.v - before.v; {
			case d >= 0:
				increase += d
			case r.def.Wrap > 0 && d+r.def.Wrap < r.def.Wrap/2:
				increase += d + r.def.Wrap
			default:
				increase += p.v
				restarts++
			}
		}
	}
	var covered, area, atTwo float64
	r.holding(f, func(s stretch, v float64) {
		length := float64(s.to - s.from)
		covered += length
		area += length * v
		if v == 2 {
			atTwo += length
		}
	})
	n := float64(len(in))
	values := make([]float64, len(in))
	sum, north, east := 0.0, 0.0, 0.0
	for i, p := range in {
		values[i] = p.v
		sum += p.v
		if r.def.Kind == series.Bearing {
			north += math.Cos(p.v * math.Pi / 180)
			east += math.Sin(p.v * math.Pi / 180)
		}
	}
	squares := 0.0
	for _, v := range values {
		squares += (v - sum/n) * (v - sum/n)
	}
	nan := math.NaN()
	switch name {
	case "count":
		return n
	case "coverage":
		return covered / float64(f.length())
	case "changes":
		return guard(n == 0 && covered == 0, changes)
	case "twa":
		return area / covered
	case "integral":
		return guard(covered == 0, area/1e9)
	case "duration:2":
		return guard(covered == 0, atTwo/1e9)
	case "share:2":
		return guard(covered == 0, atTwo/covered)
	}
	if strings.Contains(name, "above") || strings.Contains(name, "between") {
		return r.condition(name, f, covered)
	}
	if n == 0 {
		return nan
	}
	byValue := func(a, b point) int { return cmp.Or(cmp.Compare(a.v, b.v), cmp.Compare(a.at, b.at)) }
	low := slices.MinFunc(in, byValue)
	high := slices.MinFunc(in, func(a, b point) int { return cmp.Or(cmp.Compare(b.v, a.v), cmp.Compare(a.at, b.at)) })
	first, last := in[0], in[len(in)-1]
	switch name {
	case "mean":
		if r.def.Kind == series.Bearing {
			if math.Hypot(north, east) < 1e-9*n {
				return nan
			}
			return math.Mod(math.Atan2(east, north)*180/math.Pi+360, 360)
		}
		return sum / n
	case "steadiness":
		return math.Hypot(north, east) / n
	case "sum":
		return sum
	case "min":
		return low.v
	case "max":
		return high.v
	case "range":
		return high.v - low.v
	case "sd":
		return guard(n < 2, math.Sqrt(squares/(n-1)))
	case "first":
		return first.v
	case "last":
		return last.v
	case "difference":
		return last.v - first.v
	case "slope":
		return guard(last.at == first.at, (last.v-first.v)/(float64(last.at-first.at)/1e9))
	case "increase":
		return increase
	case "restarts":
		return restarts
	case "rate":
		return guard(growing == 0, increase/(growing/1e9))
	case "rate/h":
		return guard(growing == 0, 3600*increase/(growing/1e9))
	case "min_at":
		return float64(low.at)
	case "max_at":
		return float64(high.at)
	case "first_at":
		return float64(first.at)
	case "last_at":
		return float64(last.at)
	case "p90":
		slices.Sort(values)
		place := 0.9 * (n - 1)
		down := math.Floor(place)
		up := math.Min(down+1, n-1)
		return values[int(down)] + (place-down)*(values[int(up)]-values[int(down)])
	}
	panic(name)
}

// condition returns a stat of above:2.5 or between:-3..4.
func (r reference) condition(name string, f frame, covered float64) float64 {
	meets := func(v float64) bool { return v > 2.5 }
	if strings.Contains(name, "between") {
		meets = func(v float64) bool { return v >= -3 && v <= 4 }
	}
	var spells []stretch
	broken := true
	r.holding(f, func(s stretch, v float64) {
		n := len(spells)
		switch {
		case !meets(v):
			broken = true
		case !broken && n > 0 && spells[n-1].to == s.from:
			spells[n-1].to = s.to
		default:
			broken = false
			spells = append(spells, s)
		}
	})
	held, longest := 0.0, 0.0
	for _, s := range spells {
		held += float64(s.to - s.from)
		longest = max(longest, float64(s.to-s.from))
	}
	kind, _, _ := strings.Cut(name, ":")
	switch _, suffix, _ := strings.Cut(kind, "_"); {
	case suffix == "first" || suffix == "last":
		if len(spells) == 0 {
			return math.NaN()
		}
		return float64(map[string]int64{"first": spells[0].from, "last": spells[len(spells)-1].to}[suffix])
	case covered == 0:
		return math.NaN()
	case suffix == "":
		return held / 1e9
	case suffix == "longest":
		return longest / 1e9
	case suffix == "share":
		return held / covered
	}
	return float64(len(spells))
}

func (r reference) firstFrom(t int64) int {
	i, _ := slices.BinarySearchFunc(r.points, t, func(p point, t int64) int { return cmp.Compare(p.at, t) })
	return i
}

func guard(not bool, v float64) float64 {
	if not {
		return math.NaN()
	}
	return v
}

// fill fills windows without a reading as gaps says, for a stat that is a value.
func (r reference) fill(gaps string, frames []frame, of []float64) {
	empty := func(i int) bool {
		return !slices.ContainsFunc(frames[i].of, func(s stretch) bool {
			k := r.firstFrom(s.from)
			return k < len(r.points) && r.points[k].at < s.to
		})
	}
	for i, f := range frames {
		if !empty(i) || !math.IsNaN(of[i]) {
			continue
		}
		switch start := f.of[0].from; {
		case gaps == "7.5":
			of[i] = 7.5
		case strings.HasPrefix(gaps, "carry"):
			k := r.firstFrom(start) - 1
			if k < 0 || gaps == "carry:30m" && start-r.points[k].at > int64(30*time.Minute) {
				continue
			}
			of[i] = r.points[k].v
		case gaps == "join":
			a, b := i, i
			for a >= 0 && empty(a) {
				a--
			}
			for b < len(frames) && empty(b) {
				b++
			}
			if a < 0 || b == len(frames) {
				continue
			}
			share := float64(i-a) / float64(b-a)
			step := of[b] - of[a]
			if r.def.Kind == series.Bearing {
				step = math.Mod(step+540, 360) - 180
			}
			of[i] = of[a] + share*step
			if r.def.Kind == series.Bearing {
				of[i] = math.Mod(of[i]+360, 360)
			}
		}
	}
}

// disordered returns a store with the readings of a series that came in any order, some of
// them twice, partly sealed; and the reference with what counts in the end.
func disordered(t *testing.T, random *rand.Rand, kind series.Kind, begin time.Time) (*store.Store, reference) {
	st, err := store.Open(filepath.Join(t.TempDir(), "s.db"), slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	ref := reference{def: series.Definition{
		Path:     series.Path("a/b/" + string(kind)),
		Kind:     kind,
		Unit:     "Cel",
		FreshFor: time.Duration(1+random.IntN(20)) * 15 * time.Second,
		Tiers:    someTiers[random.IntN(3)],
	}}
	if kind == series.Counter {
		ref.def.Wrap = []float64{0, 100}[random.IntN(2)]
	}
	ids, err := st.Define(t.Context(), []series.Definition{ref.def})
	require.NoError(t, err)

	model := map[int64]float64{}
	value := func(i int) float64 {
		switch kind {
		case series.Counter:
			return float64((i * 3) % 100)
		case series.State:
			return float64(random.IntN(4))
		case series.Bearing:
			return float64(random.IntN(360))
		}
		return math.Round(1e3*random.NormFloat64()) / 100
	}
	var all []point
	end := begin.Add(referenceDays * 24 * time.Hour).UnixNano()
	for at := begin.UnixNano(); at < end; at += 1e9 * (1 + random.Int64N(120)) {
		all = append(all, point{at, value(len(all))})
		if random.IntN(400) == 0 {
			at += random.Int64N(int64(5 * time.Hour)) // an outage
		}
		if random.IntN(20) == 0 {
			all = append(all, point{at, value(len(all))}) // once more, corrected
		}
	}
	for i := range all { // late by up to forty places, or by very many
		k := min(len(all)-1, i+random.IntN(40))
		if random.IntN(200) == 0 {
			k = random.IntN(len(all))
		}
		all[i], all[k] = all[k], all[i]
	}
	for i := 0; i < len(all); {
		n := min(len(all), i+1+random.IntN(1500))
		rows := column.New(1, 0)
		for _, p := range all[i:n] {
			rows.Add(p.at, p.v)
			model[p.at] = p.v
		}
		require.NoError(t,
			st.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: ids[0], Rows: rows.Normalize()}}}))
		if random.IntN(2) == 0 {
			require.NoError(t, st.Seal(t.Context(), engine.Sealing{}))
		}
		i = n
	}
	for _, at := range slices.Sorted(maps.Keys(model)) {
		ref.points = append(ref.points, point{at, model[at]})
	}
	summarise(t, st, ids[0], &ref, random)
	st.Summarised(nil)
	return st, ref
}

// summarise writes the summaries of all tiers, as a gateway does, but for those of the
// last minutes, which are still open; some are sealed before others come.
func summarise(t *testing.T, st *store.Store, id uint32, ref *reference, random *rand.Rand) {
	raw := column.New(1, 0)
	for _, p := range ref.points {
		raw.Add(p.at, p.v)
	}
	last := raw.Times[raw.Len()-1]
	for _, tier := range ref.def.Tiers.All() {
		open := min(2*time.Duration(tier)+5*time.Second, 3*time.Hour)
		rows := rollup.NewBlock(ref.def.Kind, 0)
		for i := 0; i < raw.Len(); {
			start := tier.Start(raw.Times[i])
			if start+int64(tier) > last-int64(open) {
				break
			}
			rollup.Fold(raw, start, start+int64(tier), &ref.def).AddTo(&rows, start, ref.def.Kind)
			i = raw.Search(start + int64(tier))
		}
		for i := 0; i < rows.Len(); {
			n := min(rows.Len(), i+1+random.IntN(6000))
			require.NoError(t,
				st.Append(t.Context(),
					engine.Batch{Entries: []engine.Entry{{Series: id, Tier: tier, Rows: rows.Rows(i, n)}}}))
			if random.IntN(2) == 0 {
				require.NoError(t, st.Seal(t.Context(), engine.Sealing{}))
			}
			i = n
		}
	}
}

// collected keeps what a query brings.
type collected struct {
	head   Head
	series []SeriesRows
}

func (c *collected) Head(h Head) error         { c.head = h; return nil }
func (c *collected) Series(s SeriesRows) error { c.series = append(c.series, s); return nil }

var someTiers = []series.Tiers{
	{}, tiersOf(series.Minute), tiersOf(series.TenSecond, series.Minute, series.Tier(time.Hour)),
}

func tiersOf(all ...series.Tier) series.Tiers {
	tiers, err := series.MakeTiers(all)
	if err != nil {
		panic(err)
	}
	return tiers
}

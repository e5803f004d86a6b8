package query

import (
	"cmp"
	"fmt"
	"log/slog"
	"maps"
	"math"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store"
)

// The reference: readings in a slice, windows as minutes that belong to them or not,
// and every stat from its definition. It shares no code with what it judges.

type point struct {
	at int64
	v  float64
}

type reference struct {
	def    series.Definition
	points []point // all of the series, in order
}

// frame is one window: its whole minutes that count.
type frame struct {
	from, to int64
	minutes  []int64
}

func (f frame) holds(t int64) bool {
	_, found := slices.BinarySearch(f.minutes, t-t%int64(time.Minute))
	return found
}

func (r reference) stat(name string, f frame) float64 {
	var in []point
	var increase, restarts, changes float64
	since := int64(math.MinInt64)
	end := f.minutes[len(f.minutes)-1] + int64(time.Minute)
	for i := r.firstFrom(f.minutes[0]); i < len(r.points) && r.points[i].at < end; i++ {
		p := r.points[i]
		if !f.holds(p.at) {
			continue
		}
		in = append(in, p)
		if since == math.MinInt64 {
			since = p.at
			if i > 0 {
				since = r.points[i-1].at
			}
		}
		if i > 0 {
			before := r.points[i-1].v
			if p.v != before {
				changes++
			}
			switch d := p.v - before; {
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
	var covered, area float64
	per := map[float64]float64{}
	for i := r.firstFrom(f.minutes[0] - int64(r.def.FreshFor)); i < len(r.points) && r.points[i].at < end; i++ {
		p := r.points[i]
		until := p.at + int64(r.def.FreshFor)
		if i+1 < len(r.points) {
			until = min(until, r.points[i+1].at)
		}
		k, _ := slices.BinarySearch(f.minutes, p.at-int64(time.Minute)+1)
		for ; k < len(f.minutes) && f.minutes[k] < until; k++ {
			length := float64(min(until, f.minutes[k]+int64(time.Minute)) - max(p.at, f.minutes[k]))
			covered += length
			area += length * p.v
			per[p.v] += length
		}
	}
	n := float64(len(in))
	values := make([]float64, len(in))
	sum, north, east := 0.0, 0.0, 0.0
	for i, p := range in {
		values[i] = p.v
		sum += p.v
		north += math.Cos(p.v * math.Pi / 180)
		east += math.Sin(p.v * math.Pi / 180)
	}
	squares := 0.0
	for _, v := range values {
		squares += (v - sum/n) * (v - sum/n)
	}
	bearing := r.def.Kind == series.Bearing
	nan := math.NaN()
	switch name {
	case "count":
		return n
	case "coverage":
		return covered / float64(int64(len(f.minutes))*int64(time.Minute))
	case "restarts":
		return restarts
	case "changes":
		return changes
	case "twa":
		return area / covered
	case "duration:2":
		return guard(covered == 0, per[2]/1e9)
	case "share:2":
		return guard(covered == 0, per[2]/covered)
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
		if bearing {
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
	case "rate":
		return guard(last.at == since, increase/(float64(last.at-since)/1e9))
	case "min_at":
		return float64(low.at - f.from)
	case "max_at":
		return float64(high.at - f.from)
	case "first_at":
		return float64(first.at - f.from)
	case "last_at":
		return float64(last.at - f.from)
	case "p90":
		slices.Sort(values)
		place := 0.9 * (n - 1)
		down := math.Floor(place)
		up := math.Min(down+1, n-1)
		return values[int(down)] + (place-down)*(values[int(up)]-values[int(down)])
	}
	panic(name)
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

var statsOf = map[series.Kind][]string{
	series.Gauge:   {"count", "mean", "twa", "min", "max", "range", "sd", "sum", "first", "last", "difference", "slope", "coverage", "min_at", "max_at", "first_at", "last_at"},
	series.Counter: {"count", "increase", "rate", "restarts", "first", "last", "coverage", "twa"},
	series.State:   {"count", "changes", "duration:2", "share:2", "last", "coverage", "first_at"},
	series.Bearing: {"count", "mean", "steadiness", "first", "last", "coverage"},
}

// asked is a random query, as the product and as the reference understand it.
type asked struct {
	query  Windows
	frames []frame
}

var referenceBegin = time.Date(2026, 3, 27, 0, 0, 0, 0, time.UTC) // clocks change on the 29th, the month turns later

const referenceDays = 6

func randomQuery(t *testing.T, random *rand.Rand) asked {
	zone, err := time.LoadLocation([]string{"UTC", "Europe/Lisbon", "Asia/Kolkata", "America/New_York"}[random.IntN(4)])
	require.NoError(t, err)
	from := referenceBegin.Add(time.Duration(random.IntN(referenceDays*24*60)) * time.Minute)
	to := from.Add(time.Duration(1+random.IntN([]int{90, 600, 4000}[random.IntN(3)])) * time.Minute)
	grid := window.Grid{Zone: zone}
	texts := []string{"1m", "2m", "5m", "7m", "15m", "1h", "6h", "1d", "1d", "2d", "1w", "1mo", ""}
	text := texts[random.IntN(len(texts))]
	stride := text
	if text != "" {
		grid.Width, err = window.ParseStep(text)
		require.NoError(t, err)
		if grid.Width.Fixed > 0 && random.IntN(4) == 0 {
			stride = []string{"3m", "10m", "1h"}[random.IntN(3)]
			grid.Stride, err = window.ParseStep(stride)
			require.NoError(t, err)
		}
	}
	keep := func(time.Time) bool { return true }
	if random.IntN(3) == 0 {
		a, b := 60*random.IntN(24), 60*random.IntN(24)+30
		hours := window.Hours{From: time.Duration(a) * time.Minute, To: time.Duration(b) * time.Minute}
		over := b < a
		calendar := grid.Width.Fixed == 0 && text != ""
		if !over || !calendar { // nights move the days' begin: shown by hand elsewhere
			grid.Hours = &hours
			keep = func(at time.Time) bool {
				clock := at.Hour()*60 + at.Minute()
				if over {
					return clock >= a || clock < b
				}
				return clock >= a && clock < b
			}
		}
	}
	if random.IntN(4) == 0 && (grid.Hours == nil || grid.Hours.To > grid.Hours.From) {
		grid.Days, err = window.ParseDays("fri,sun-mon")
		require.NoError(t, err)
		inner := keep
		keep = func(at time.Time) bool {
			d := at.Weekday()
			return inner(at) && (d == time.Friday || d == time.Sunday || d == time.Monday)
		}
	}
	out := asked{query: Windows{Range: window.Range{From: from, To: to, Exact: true}, Grid: grid}}
	for _, edges := range slowWindows(text, stride, zone, from, to) {
		f := frame{from: edges[0].UnixNano(), to: edges[1].UnixNano()}
		for at := edges[0]; at.Before(edges[1]); at = at.Add(time.Minute) {
			if keep(at.In(zone)) {
				f.minutes = append(f.minutes, at.UnixNano())
			}
		}
		if len(f.minutes) > 0 {
			out.frames = append(out.frames, f)
		}
	}
	return out
}

// slowWindows steps from minute to minute and asks of each whether a window begins.
func slowWindows(width, stride string, zone *time.Location, from, to time.Time) (out [][2]time.Time) {
	if width == "" {
		return [][2]time.Time{{from, to}}
	}
	begins := func(text string, at time.Time) bool {
		local := at.In(zone)
		midnight := local.Hour() == 0 && local.Minute() == 0
		day := int(time.Date(local.Year(), local.Month(), local.Day(), 0, 0, 0, 0, time.UTC).Unix() / 86400)
		switch text {
		case "1d":
			return midnight
		case "2d":
			return midnight && day%2 == 0
		case "1w":
			return midnight && local.Weekday() == time.Monday
		case "1mo":
			return midnight && local.Day() == 1
		}
		d, err := time.ParseDuration(text)
		if err != nil {
			panic(err)
		}
		return at.UnixNano()%int64(d) == 0
	}
	at := from
	for !begins(stride, at) {
		at = at.Add(-time.Minute)
	}
	for ; at.Before(to); at = at.Add(time.Minute) {
		if !begins(stride, at) {
			continue
		}
		end := at.Add(time.Minute)
		if d, err := time.ParseDuration(width); err == nil {
			end = at.Add(d)
		} else {
			for !begins(width, end) {
				end = end.Add(time.Minute)
			}
		}
		out = append(out, [2]time.Time{at, end})
	}
	return out
}

// disordered is a store with the readings of a series that came in any order, some of
// them twice, partly sealed; and the reference with what counts in the end.
func disordered(t *testing.T, random *rand.Rand, kind series.Kind) (*store.Store, reference) {
	st, err := store.Open(filepath.Join(t.TempDir(), "s.db"), slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	ref := reference{def: series.Definition{Path: series.Path("a/b/" + string(kind)), Kind: kind, FreshFor: time.Duration(1+random.IntN(20)) * 15 * time.Second}}
	if kind == series.Counter {
		ref.def.Wrap = []float64{0, 100}[random.IntN(2)]
	}
	ids, err := st.Define([]series.Definition{ref.def})
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
	end := referenceBegin.Add(referenceDays * 24 * time.Hour).UnixNano()
	for at := referenceBegin.UnixNano(); at < end; at += 1e9 * (1 + random.Int64N(120)) {
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
		require.NoError(t, st.Append(store.Batch{Entries: []store.Entry{{Series: ids[0], Rows: rows.Normalize()}}}))
		if random.IntN(2) == 0 {
			require.NoError(t, st.Seal(nil))
		}
		i = n
	}
	for _, at := range slices.Sorted(maps.Keys(model)) {
		ref.points = append(ref.points, point{at, model[at]})
	}
	summarise(t, st, ids[0], &ref, random)
	return st, ref
}

// summarise writes the summaries of both tiers, as a gateway does, but for those of the
// last minutes, which are still open; some are sealed before others come.
func summarise(t *testing.T, st *store.Store, id uint32, ref *reference, random *rand.Rand) {
	raw := column.New(1, 0)
	for _, p := range ref.points {
		raw.Add(p.at, p.v)
	}
	last := raw.Times[raw.Len()-1]
	for tier, open := range map[rollup.Tier]time.Duration{rollup.TenSecond: 25 * time.Second, rollup.Minute: 3 * time.Minute} {
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
			require.NoError(t, st.Append(store.Batch{Entries: []store.Entry{{Series: id, Tier: tier, Rows: rows.Rows(i, n)}}}))
			if random.IntN(2) == 0 {
				require.NoError(t, st.Seal(nil))
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

func TestTenThousandRandomQueriesAgreeWithTheReference(t *testing.T) {
	const seeds, queries = 5, 520
	for _, kind := range []series.Kind{series.Gauge, series.Counter, series.State, series.Bearing} {
		for seed := range uint64(seeds) {
			t.Run(fmt.Sprint(kind, " ", seed), func(t *testing.T) {
				t.Parallel()
				random := rand.New(rand.NewPCG(seed, uint64(len(kind))))
				st, ref := disordered(t, random, kind)
				for i := range queries {
					agree(t, random, st, ref, i)
				}
			})
		}
	}
}

func agree(t *testing.T, random *rand.Rand, st *store.Store, ref reference, i int) {
	ask := randomQuery(t, random)
	names := slices.Clone(statsOf[ref.def.Kind])
	random.Shuffle(len(names), func(i, k int) { names[i], names[k] = names[k], names[i] })
	names = names[:1+random.IntN(len(names))]
	if ref.def.Kind == series.Gauge && random.IntN(8) == 0 {
		names = append(names, "p90")
	}
	for _, name := range names {
		stats, err := window.ParseStats(name)
		require.NoError(t, err)
		ask.query.Stats = append(ask.query.Stats, stats...)
	}
	selector, err := series.ParseSelector("#")
	require.NoError(t, err)
	ask.query.Select = selector
	// A central, which has only summaries, is asked now and then, of what is summarised.
	summarised := ref.points[len(ref.points)-1].at - int64(5*time.Minute)
	readings := random.IntN(3) > 0 || slices.Contains(names, "p90") || len(ask.frames) > 0 && ask.frames[len(ask.frames)-1].to > summarised
	src := from(st, readings)
	src.Limits = config.Queries{MaxRows: 1e6, MaxSeries: 10, MaxTime: time.Minute}
	var got collected
	err = ask.query.Run(t.Context(), src, &got)
	if len(ask.frames) == 0 {
		require.ErrorContains(t, err, "none of the", "query %d", i)
		return
	}
	require.NoError(t, err)
	require.Len(t, got.head.Windows, len(ask.frames), "%+v", ask.query)
	for w, f := range ask.frames {
		require.Equal(t, f.from, got.head.Windows[w].From, "%+v", ask.query)
		for k, name := range names {
			want, have := ref.stat(name, f), got.series[0].Rows.Stats[k][w]
			same := math.IsNaN(want) && math.IsNaN(have) || math.Abs(want-have) <= 1e-9*(1+math.Abs(want))
			require.True(t, same, "query %d, %s of %s to %s from %s: %v where the reference has %v\n%+v", i, name,
				time.Unix(0, f.from).UTC(), time.Unix(0, f.to).UTC(), got.series[0].Tier, have, want, ask.query)
		}
	}
}

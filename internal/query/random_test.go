package query

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/rounds"
	"nexocumula/internal/store"
)

var statsOf = map[series.Kind][]string{
	series.Gauge: {"count", "mean", "twa", "min", "max", "range", "sd", "sum", "integral", "first", "last", "difference", "slope", "coverage", "min_at", "max_at", "first_at", "last_at",
		"above:2.5", "above_longest:2.5", "between:-3..4", "between_share:-3..4"},
	series.Counter: {"count", "increase", "rate", "rate/h", "restarts", "first", "last", "coverage", "twa"},
	series.State:   {"count", "changes", "duration:2", "share:2", "last", "coverage", "first_at"},
	series.Bearing: {"count", "mean", "steadiness", "first", "last", "coverage"},
}

// onlyReadings lists stats that summaries cannot answer.
var onlyReadings = []string{"p90", "above_times:2.5", "between_first:-3..4", "above_last:2.5"}

// A stage is six days, and zones in which something happens to the clocks in them.
type stage struct {
	begin time.Time
	zones []string
}

const referenceDays = 6

var stages = []stage{
	{
		time.Date(2026, 3, 27, 0, 0, 0, 0, time.UTC), []string{"UTC", "Europe/Lisbon", "Asia/Kolkata", "Asia/Beirut"},
	}, // an hour is not there; in Beirut, midnight
	{
		time.Date(2026, 10, 29, 0, 0, 0, 0, time.UTC), []string{"UTC", "America/Havana", "America/New_York"},
	}, // an hour comes twice; in Havana, midnight
	{
		time.Date(2011, 12, 27, 0, 0, 0, 0, time.UTC),
		[]string{"Pacific/Apia", "Pacific/Fakaofo", "Pacific/Apia", "UTC"},
	}, // a day is not there
	{
		time.Date(2018, 2, 15, 0, 0, 0, 0, time.UTC), []string{"America/Sao_Paulo", "UTC"},
	}, // the last hour of a day comes twice
	{
		time.Date(2026, 3, 31, 0, 0, 0, 0, time.UTC),
		[]string{"Australia/Lord_Howe", "Asia/Kathmandu", "Pacific/Chatham", "UTC"},
	}, // half an hour comes twice
}

// asked is a random query, as the product and as the reference understand it.
type asked struct {
	query   Windows
	written asWritten
	frames  []frame
	gaps    string
	kelvin  bool
}

func oneOf[T any](random *rand.Rand, of ...T) T { return of[random.IntN(len(of))] }

func randomQuery(t *testing.T, random *rand.Rand, on stage, kind series.Kind) (out asked) {
	step := func(text string) (s window.Step) {
		if text != "" {
			var err error
			s, err = window.ParseStep(text)
			require.NoError(t, err)
		}
		return s
	}
	zone, err := time.LoadLocation(oneOf(random, on.zones...))
	require.NoError(t, err)
	from := on.begin.Add(time.Duration(random.IntN(referenceDays*24*60)) * time.Minute)
	to := from.Add(time.Duration(1+random.IntN(oneOf(random, 90, 600, 4000))) * time.Minute)
	w := asWritten{
		zone:  zone,
		width: oneOf(random, "1m", "2m", "5m", "7m", "15m", "1h", "6h", "12h", "1d", "1d", "2d", "1w", "1mo", ""),
	}
	w.stride = w.width
	switch {
	case w.width == "":
	case random.IntN(10) == 0:
		w.width, w.fold, w.byClock = oneOf(random, "15m", "30m", "1h", "6h"), oneOf(random, "day", "week"), true
		if w.fold == "week" && random.IntN(2) == 0 {
			w.width = "1d"
		}
		w.stride = w.width
	default:
		if random.IntN(4) == 0 {
			w.stride = oneOf(random, "3m", "10m", "1h", "1d", "2d")
			if lengths[w.width][0] > 0 || w.width == "1w" { // not thousands of overlapping months
				w.stride = "1d"
			}
		}
		if random.IntN(5) == 0 {
			w.origin = on.begin.Add(time.Duration(random.Int64N(int64(30 * 24 * time.Hour))))
			if random.IntN(2) == 0 {
				w.origin = w.origin.Truncate(time.Minute)
			}
		}
		w.byClock = random.IntN(5) == 0
		w.clipped = random.IntN(5) == 0
	}
	grid := window.Grid{
		Zone:    zone,
		Width:   step(w.width),
		Origin:  w.origin,
		ByClock: w.byClock,
		Clipped: w.clipped,
		Fold:    window.Fold(w.fold),
	}
	if w.stride != w.width {
		grid.Stride = step(w.stride)
	}
	randomDays(t, random, on, &w, &grid)
	out = asked{written: w, query: Windows{Range: window.Range{From: from, To: to, Exact: true}, Grid: grid}}
	out.frames = w.frames(from, to)
	out.gaps = oneOf(random, "leave", "leave", "carry", "carry:30m", "join", "7.5")
	if kind == series.State && out.gaps == "join" {
		out.gaps = "leave"
	}
	out.query.Gaps, err = window.ParseGaps(out.gaps)
	require.NoError(t, err)
	if out.kelvin = kind == series.Gauge && random.IntN(6) == 0; out.kelvin {
		out.query.Units.All = "K"
	}
	return out
}

// randomDays takes only some hours and days.
func randomDays(t *testing.T, random *rand.Rand, on stage, w *asWritten, grid *window.Grid) {
	clock := func(m int) string { return fmt.Sprintf("%02d:%02d", m/60, m%60) }
	var err error
	if random.IntN(3) == 0 {
		a := 60 * random.IntN(24)
		w.hours = [][2]int{{a, (a + 30 + 60*random.IntN(22)) % 1440}}
		if random.IntN(3) == 0 {
			w.hours = [][2]int{{90, 330}, {720, 1050}, {1320, 30}}
		}
		var texts []string
		for _, h := range w.hours {
			texts = append(texts, clock(h[0])+"-"+clock(h[1]))
		}
		grid.Hours, err = window.ParseHours(strings.Join(texts, ","))
		require.NoError(t, err)
	}
	if random.IntN(4) == 0 {
		w.days = []time.Weekday{time.Friday, time.Sunday, time.Monday}
		grid.Days, err = window.ParseDays("fri,sun-mon")
		require.NoError(t, err)
	}
	if random.IntN(5) == 0 {
		day := on.begin.AddDate(0, 0, random.IntN(referenceDays))
		w.except = []time.Time{day, day.AddDate(0, 0, 1)}
		grid.Except, err = window.ParseDates(day.Format(time.DateOnly) + ".." + day.AddDate(0, 0, 1).Format(time.DateOnly))
		require.NoError(t, err)
	}
}

func TestRandomQueriesAgreeWithTheReference(t *testing.T) {
	queries := rounds.Of(125) // of each of twenty
	for _, kind := range []series.Kind{series.Gauge, series.Counter, series.State, series.Bearing} {
		for seed, on := range stages {
			t.Run(fmt.Sprint(kind, " ", seed), func(t *testing.T) {
				t.Parallel()
				random := rand.New(rand.NewPCG(uint64(seed), uint64(len(kind))))
				st, ref := disordered(t, random, kind, on.begin)
				for i := range queries {
					agree(t, random, st, ref, on, i)
				}
			})
		}
	}
}

func agree(t *testing.T, random *rand.Rand, st *store.Store, ref reference, on stage, i int) {
	ask := randomQuery(t, random, on, ref.def.Kind)
	names := slices.Clone(statsOf[ref.def.Kind])
	random.Shuffle(len(names), func(i, k int) { names[i], names[k] = names[k], names[i] })
	names = names[:1+random.IntN(len(names))]
	exact := ref.def.Kind == series.Gauge && random.IntN(8) == 0
	if exact {
		names = append(names, oneOf(random, onlyReadings...))
	}
	if ask.kelvin { // what they compare with is in the unit asked for, and would be another number
		names = slices.DeleteFunc(names, func(s string) bool { return strings.Contains(s, ":") || s == "integral" })
	}
	if len(names) == 0 {
		return
	}
	for _, name := range names {
		stats, err := window.ParseStats(name)
		require.NoError(t, err)
		ask.query.Stats = append(ask.query.Stats, stats...)
	}
	ask.query.Select = []series.Selector{everything(t)}
	// A central, which has only summaries, is asked now and then, of what is summarised.
	readings := random.IntN(3) > 0 || exact || len(st.LateSeries()) > 0 || !summarised(ref, ask.frames)
	src := from(st, readings)
	src.Limits = config.Queries{MaxRows: 1e6, MaxSeries: 10, MaxTime: time.Minute}
	var got collected
	err := ask.query.Run(t.Context(), src, &got)
	if len(ask.frames) == 0 {
		require.ErrorContains(t, err, "none of the", "query %d %+v", i, ask.query)
		return
	}
	require.NoError(t, err, "%+v", ask.query)
	require.Len(t, got.head.Windows, len(ask.frames), "query %d %+v", i, ask.query)
	whole := frame{of: union(ask.frames)}
	kelvin := ref.inKelvin()
	order := make([]int, len(ask.frames)) // of the reference's windows, which product window it is
	for w, f := range ask.frames {
		if order[w] = w; f.place != "" {
			order[w] = slices.IndexFunc(got.head.Windows, func(o window.Window) bool { return o.Place == f.place })
		} else if got.head.Windows[w].From != f.from {
			order[w] = -1
		}
		require.GreaterOrEqual(t, order[w], 0, "query %d, window from %s is missing\n%+v", i,
			time.Unix(0, f.from).UTC(), ask.query)
	}
	for k, name := range names {
		want := make([]float64, len(ask.frames))
		for w, f := range ask.frames {
			want[w] = ref.asked(kelvin, name, f, ask.kelvin)
		}
		if slices.Contains([]string{"mean", "twa", "min", "max", "first", "last", "p90"}, name) &&
			ask.written.fold == "" {
			filling := ref
			if ask.kelvin {
				filling = kelvin
			}
			filling.fill(ask.gaps, ask.frames, want)
		} else if ask.written.fold != "" && ask.gaps != "leave" && ask.query.Stats[k].IsValue() {
			continue // what stands beside a window of a mean day is shown by hand
		}
		rows := got.series[0]
		for w, f := range ask.frames {
			have, least, most := rows.at(k, order[w])
			agrees(t, want[w], have, least, most, "query %d, %s of %s from %s\n%+v", i, name,
				time.Unix(0, f.from).UTC(), rows.Tier, ask.query)
		}
		have, least, most := rows.whole(k)
		agrees(t, ref.asked(kelvin, name, whole, ask.kelvin), have, least, most,
			"query %d, %s of the whole from %s\n%+v", i, name, rows.Tier, ask.query)
	}
}

// summarised says that the windows are of what a central has, and at edges that its
// summaries have.
func summarised(ref reference, frames []frame) bool {
	until := ref.points[len(ref.points)-1].at - int64(5*time.Minute)
	for _, f := range frames {
		for _, s := range f.of {
			if s.to > until || s.from%int64(10*time.Second) != 0 || s.to%int64(10*time.Second) != 0 {
				return false
			}
		}
	}
	return true
}

func (r reference) asked(inKelvin reference, name string, f frame, kelvin bool) float64 {
	if !kelvin || strings.Contains(name, "_at") {
		return r.stat(name, f)
	}
	return inKelvin.stat(name, f)
}

// inKelvin converts expected values to kelvins.
func (r reference) inKelvin() reference {
	out := r
	out.points = slices.Clone(r.points)
	for i := range out.points {
		out.points[i].v += 273.15
	}
	return out
}

// at returns a number of a window, exact or between bounds; of a time, as a number.
func (s SeriesRows) at(k, w int) (v, least, most float64) {
	v, least, most = s.Rows.Stats[k][w], math.NaN(), math.NaN()
	if s.Times[k] != nil {
		return nanUnless(s.Times[k][w]), least, most
	}
	if s.Least[k] != nil {
		least, most = s.Least[k][w], s.Most[k][w]
	}
	return v, least, most
}

func (s SeriesRows) whole(k int) (v, least, most float64) {
	if s.Times[k] != nil {
		return nanUnless(s.WholeTimes[k]), math.NaN(), math.NaN()
	}
	return s.Whole[k], s.WholeLeast[k], s.WholeMost[k]
}

func nanUnless(ns int64) float64 {
	if ns == 0 {
		return math.NaN()
	}
	return float64(ns)
}

func agrees(t *testing.T, want, have, least, most float64, format string, args ...any) {
	t.Helper()
	slack := 1e-9 * (1 + math.Abs(want))
	same := math.IsNaN(want) && math.IsNaN(have) || math.Abs(want-have) <= slack
	if math.IsNaN(have) && least < most {
		same = least-slack <= want && want <= most+slack
	}
	if !same {
		require.Fail(t,
			fmt.Sprintf("%v (%v to %v) where the reference has %v: ", have, least, most, want)+fmt.Sprintf(format,
				args...))
	}
}

// union returns the time of all frames, each moment once.
func union(frames []frame) (out []stretch) {
	var all []stretch
	for _, f := range frames {
		all = append(all, f.of...)
	}
	slices.SortFunc(all, func(a, b stretch) int { return int(a.from - b.from) })
	for _, s := range all {
		if n := len(out); n > 0 && out[n-1].to >= s.from {
			out[n-1].to = max(out[n-1].to, s.to)
			continue
		}
		out = append(out, s)
	}
	return out
}

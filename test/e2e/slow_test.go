package e2e

import (
	"math"
	"sort"
	"time"
)

// published is a reading as a test sent it.
type published struct {
	at    time.Time
	value float64
}

// slowWindow is the expected answer of one window, computed the slow and obvious way.
type slowWindow struct {
	count                           int
	mean, min, max, sd, first, last float64
	coverage                        float64
}

// slowWindows computes the windows of a series from all that was published, in the
// order of publishing: of readings with the same time the last one counts. Coverage
// is counted millisecond by millisecond.
func slowWindows(sent []published, width, freshFor time.Duration) map[time.Time]slowWindow {
	byTime := map[int64]float64{}
	for _, p := range sent {
		byTime[p.at.UnixMilli()] = p.value
	}
	var times []int64
	for at := range byTime {
		times = append(times, at)
	}
	sort.Slice(times, func(i, j int) bool { return times[i] < times[j] })

	grouped := map[int64][]float64{}
	for _, at := range times {
		start := at - at%width.Milliseconds()
		grouped[start] = append(grouped[start], byTime[at])
	}
	fresh := map[int64]bool{}
	for _, at := range times {
		for ms := at; ms < at+freshFor.Milliseconds(); ms++ {
			fresh[ms] = true
		}
	}
	out := map[time.Time]slowWindow{}
	for start, values := range grouped {
		w := slowWindow{
			count: len(values),
			min:   values[0],
			max:   values[0],
			first: values[0],
			last:  values[len(values)-1],
		}
		for _, v := range values {
			w.mean += v / float64(len(values))
			w.min, w.max = math.Min(w.min, v), math.Max(w.max, v)
		}
		for _, v := range values {
			w.sd += (v - w.mean) * (v - w.mean)
		}
		w.sd = math.Sqrt(w.sd / float64(len(values)-1)) // NaN for one reading
		covered := 0
		for ms := start; ms < start+width.Milliseconds(); ms++ {
			if fresh[ms] {
				covered++
			}
		}
		w.coverage = float64(covered) / float64(width.Milliseconds())
		out[time.UnixMilli(start).UTC()] = w
	}
	return out
}

package planner

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// Value is a run of registers, or bits, that is only of use as a whole.
type Value struct{ First, Words int }

func (v Value) end() int { return v.First + v.Words }

// Read is one request, and which of the values it brings, by their index.
type Read struct {
	First, Count int
	Values       []int
}

func (r Read) end() int { return r.First + r.Count }

// Wish lists the values wanted from a table, and the cost of asking for them.
type Wish struct {
	Values  []Value
	Longest int     // that the protocol or the device's manual allows
	Holes   bool    // whether registers that nobody wants may be read over
	Request float64 // cost of a request, such as its time on the line
	Word    float64 // and of each register in it
}

// Reads returns the cheapest that are not known to be refused. Values that are refused by
// themselves are left out until it is time to try them again, and then read alone.
func (w Wish) Reads(f *Facts, now time.Time) []Read {
	f.expire(now)
	order := make([]int, 0, len(w.Values))
	var again []Read
	for i, v := range w.Values {
		switch refusal := f.refusedAlone(v); {
		case refusal == nil:
			order = append(order, i)
		case !now.Before(refusal.Again):
			again = append(again, Read{v.First, v.Words, []int{i}})
		}
	}
	slices.SortFunc(order, func(a, b int) int {
		return cmp.Or(cmp.Compare(w.Values[a].First, w.Values[b].First),
			cmp.Compare(w.Values[a].end(), w.Values[b].end()), a-b)
	})
	out := w.cheapest(order, f, f.most(w.Longest))
	// Half way between what was given and what was refused nothing may be there to read:
	// then further on, lest the limit is never found.
	for most := f.most(w.Longest); f.Short > 0 && most < min(f.Short-1, w.Longest) && longest(out) <= f.Given; {
		most = min((most+f.Short)/2, f.Short-1)
		if out = w.cheapest(order, f, most); most == f.Short-1 {
			break
		}
		most++
	}
	return append(out, again...)
}

func longest(reads []Read) (n int) {
	for _, r := range reads {
		n = max(n, r.Count)
	}
	return n
}

// cheapest splits values, in their order, into reads: for each number of them from the
// front, the least cost and where its last read begins.
func (w Wish) cheapest(order []int, f *Facts, most int) []Read {
	cost, from, count := make([]float64, len(order)+1), make([]int, len(order)+1), make([]int, len(order)+1)
	firstEnd := f.firstEnds(order, w.Values)
	for i := 1; i <= len(order); i++ {
		cost[i] = math.Inf(1)
		end, next := 0, math.MaxInt
		for j := i - 1; j >= 0; j-- {
			v := w.Values[order[j]]
			if !w.Holes && v.end() < next && j < i-1 {
				break
			}
			next = min(next, v.First)
			end = max(end, v.end())
			n := end - v.First
			// A value by itself is always asked for, however long: it may be given.
			if j < i-1 && (n > most || end >= firstEnd[j]) {
				break
			}
			if c := cost[j] + w.Request + w.Word*float64(n); c < cost[i] {
				cost[i], from[i], count[i] = c, j, n
			}
		}
	}
	var out []Read
	for i := len(order); i > 0; i = from[i] {
		values := slices.Clone(order[from[i]:i])
		out = append(out, Read{w.Values[values[0]].First, count[i], values})
	}
	slices.Reverse(out)
	return out
}

// Halves are two reads for the values of one, and where there is a hole between them that
// nobody knows whether it can be read, one over it.
func (w Wish) Halves(r Read, f *Facts) (halves [2]Read, over *Read) {
	k := len(r.Values) / 2
	halves = [2]Read{w.read(r.Values[:k]), w.read(r.Values[k:])}
	edge := []int{r.Values[k-1], r.Values[k]}
	if halves[0].end() < halves[1].First && !f.readable(halves[0].end(), halves[1].First) {
		one := w.read(edge)
		if one.Count < r.Count {
			over = &one
		}
	}
	return halves, over
}

func (w Wish) read(values []int) Read {
	first, end := w.Values[values[0]].First, 0
	for _, i := range values {
		end = max(end, w.Values[i].end())
	}
	return Read{first, end - first, values}
}

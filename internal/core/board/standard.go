package board

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"nexocumula/internal/core/series"
)

const (
	mostGauges = 8          // a head is to be taken in at a glance
	qualities  = "/quality" // series that say how good others are
)

// Places returns the sites and stations of series, in order: each site before its stations.
func Places(all []series.Definition) (out []string) {
	seen := map[string]bool{}
	for i := range all {
		levels := strings.Split(string(all[i].Path), "/")
		seen[levels[0]] = true
		if len(levels) > 2 && !strings.HasSuffix(string(all[i].Path), qualities) {
			seen[strings.Join(levels[:len(levels)-1], "/")] = true
		}
	}
	return slices.Sorted(maps.Keys(seen))
}

// Standard returns the board that a site or a station has from the start, made from the
// definitions of its series: those alike share a lane.
func Standard(about string, all []series.Definition) *Board {
	b := &Board{Form: Form, Title: Words(about), About: about, Range: &Range{Last: "1d"}}
	site := !strings.Contains(about, "/")
	groups := map[group][]series.Definition{}
	for i := range all {
		d := all[i]
		if !strings.HasPrefix(string(d.Path), about+"/") || strings.HasSuffix(string(d.Path), qualities) {
			continue
		}
		g := groupOf(&d, site)
		groups[g] = append(groups[g], d)
	}
	order := slices.SortedFunc(maps.Keys(groups), group.compare)
	for _, g := range order {
		b.Head = append(b.Head, g.head(groups[g], mostGauges-len(b.Head))...)
	}
	for _, g := range order {
		if len(b.Lanes) < mostLanes-2 {
			b.Lanes = append(b.Lanes, g.lane(about, groups[g]))
		}
	}
	place := Site
	if !site {
		place = Station
	}
	b.Lanes = append(b.Lanes, Lane{Kind: Notes, Title: "Notes and outages", Series: []string{place}})
	if len(order) > 0 {
		b.Lanes = append(b.Lanes, Lane{Kind: Coverage, Title: "Coverage", Series: []string{place + "/#"}})
	}
	return b
}

// group is the series of a lane: at a site the same quantity of its stations, at a station
// what has the same unit; always of one kind.
type group struct {
	rank int // gauges first, as people look for them first
	kind series.Kind
	name string // of the quantity, or the unit
}

func groupOf(d *series.Definition, site bool) group {
	ranks := map[series.Kind]int{series.Gauge: 0, series.State: 1, series.Bearing: 2, series.Counter: 3}
	name := d.Unit
	if site || d.Kind == series.State {
		name = last(string(d.Path))
	}
	if !site && d.Kind == series.State {
		name = "" // all of a station's states are rows of one lane
	}
	return group{ranks[d.Kind], d.Kind, name}
}

func (g group) compare(other group) int {
	return cmp.Or(cmp.Compare(g.rank, other.rank), strings.Compare(string(g.kind), string(other.kind)),
		strings.Compare(g.name, other.name))
}

// head returns the series of a group that stand in the head, which has room for most.
func (g group) head(of []series.Definition, most int) (out []Head) {
	for i := range of {
		if len(out) < most && g.kind != series.Counter {
			d := &of[i]
			out = append(out, Head{Series: string(d.Path), Gauge: g.kind == series.Gauge && d.Normal != ""})
		}
	}
	return out
}

func (g group) lane(about string, of []series.Definition) Lane {
	kinds := map[series.Kind]string{
		series.Gauge:   Chart,
		series.Counter: Growth,
		series.State:   States,
		series.Bearing: Bearing,
	}
	l := Lane{Kind: kinds[g.kind]}
	names := map[string]bool{}
	depth := map[int]bool{}
	for i := range of {
		path := string(of[i].Path)
		names[Words(last(path))] = true
		depth[strings.Count(path, "/")] = true
		l.Series = append(l.Series, path)
	}
	l.Title = capital(strings.Join(slices.Sorted(maps.Keys(names)), ", "))
	if len(of) > 1 && !strings.Contains(about, "/") && len(names) == 1 && len(depth) == 1 &&
		strings.Count(string(of[0].Path), "/") == 2 {
		l.Series = []string{about + "/+/" + last(string(of[0].Path))} // stations that come later are in it too
	}
	l.Series = l.Series[:min(len(l.Series), mostSeries)]
	return l
}

// Words returns a path or a level of it for people.
func Words(path string) string {
	return strings.ReplaceAll(strings.ReplaceAll(path, "_", " "), "/", ", ")
}

func last(path string) string { return path[strings.LastIndexByte(path, '/')+1:] }

func capital(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

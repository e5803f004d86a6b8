package api

import (
	"encoding/json"
	"strconv"
	"time"

	"nexocumula/client"
	"nexocumula/internal/query"
)

// windowsJSON writes a client.Windows. The columns of numbers, which are nearly all of it,
// are appended number by number; encoding/json would take several times as long.
type windowsJSON struct {
	to     *buffered
	query  query.Windows
	series int

	missing *missing
}

func (w *windowsJSON) begun() bool { return w.to.begun }

// Head begins the answer: all of a client.Windows up to its series.
func (w *windowsJSON) Head(head query.Head) error {
	q := w.query
	w.missing.head(head)
	out := client.Windows{
		From: head.From, To: head.To, Zone: q.Grid.Zone.String(), Width: "whole", Gaps: q.Gaps.String(), Stats: []string{}, LeftOut: append([]string{},
			head.LeftOut...),
	}
	if !head.Width.IsZero() {
		out.Width = head.Width.String()
	}
	out.Stride = out.Width
	if !q.Grid.Stride.IsZero() {
		out.Stride = q.Grid.Stride.String()
	}
	for _, s := range head.Stats {
		out.Stats = append(out.Stats, s.String())
	}
	for _, one := range head.Windows {
		if one.Place != "" {
			out.Places = append(out.Places, one.Place)
		}
	}
	text, err := json.Marshal(out)
	if err != nil {
		return err
	}
	w.to.open(typeJSON)
	const rest = `,"starts":null,"ends":null,"series":null}` // which follow
	w.to.add(text[:len(text)-len(rest)])
	w.to.text(`,"starts":`)
	column(w.to, len(head.Windows), func(out []byte, i int) []byte { return appendTime(out, head.Windows[i].From) })
	w.to.text(`,"ends":`)
	column(w.to, len(head.Windows), func(out []byte, i int) []byte { return appendTime(out, head.Windows[i].To) })
	w.to.text(`,"series":[`)
	return w.to.err
}

// Series adds one.
func (w *windowsJSON) Series(s query.SeriesRows) error {
	if w.series++; w.series > 1 {
		w.to.text(",")
	}
	gaps, err := w.missing.of(s)
	if err != nil {
		return err
	}
	out := aboutSeries(s)
	out.Missing = missingList(gaps)
	about, err := json.Marshal(out)
	if err != nil {
		return err
	}
	w.to.add(about[:len(about)-1])
	w.columns(s)
	w.to.text("}")
	return w.to.err
}

// aboutSeries returns all of a client.SeriesWindows but its columns.
func aboutSeries(s query.SeriesRows) client.SeriesAbout {
	out := client.SeriesAbout{
		Name: s.Name, Kind: string(s.Kind), Unit: s.Unit, Labels: s.Labels.Map(), Tier: s.Tier.String(), Members: s.Members,
		Coverage: client.Number(s.Coverage), Rank: s.Rank, Silent: s.Silent, Units: map[string]string{},
		Whole: client.Whole{Values: map[string]client.Number{}, Times: map[string]*time.Time{}},
	}
	if s.States != "" {
		out.States = s.States.Map()
	}
	if !s.Shift.IsZero() {
		out.Shift = s.Shift.String()
		for _, one := range s.Starts {
			out.ShiftedStarts = append(out.ShiftedStarts, at(one.From))
		}
	}
	for i, stat := range s.Stats {
		if isTime(s, i) {
			out.Whole.Times[stat] = timeOrNil(s.WholeTimes[i])
			continue
		}
		out.Whole.Values[stat] = client.Number(s.Whole[i])
		if i < len(s.StatUnits) && s.StatUnits[i] != "" {
			out.Units[stat] = s.StatUnits[i]
		}
		if hasBounds(s, i) {
			if out.Whole.Bounds == nil {
				out.Whole.Bounds = map[string]client.Bound{}
			}
			out.Whole.Bounds[stat] = client.Bound{Least: client.Number(s.WholeLeast[i]), Most: client.Number(s.WholeMost[i])}
		}
	}
	for _, one := range s.Why {
		out.Unknown = append(out.Unknown, client.Unknown{Stat: one.Stat, Windows: one.Windows, Why: one.Text})
	}
	for _, a := range s.Again {
		if out.Then == nil {
			out.Then = map[string]map[string]client.Number{}
		}
		for i, stat := range s.Stats {
			if isTime(s, i) {
				continue
			}
			if out.Then[stat] == nil {
				out.Then[stat] = map[string]client.Number{}
			}
			out.Then[stat][a.Name] = client.Number(a.Values[i])
		}
	}
	if e := s.Explained; e != nil {
		out.Explained = &client.Explained{Why: e.Why, Read: []client.Read{}}
		for _, t := range e.ScanStats {
			out.Explained.Read = append(out.Explained.Read, client.Read{
				Tier:     t.Tier.String(),
				Synopses: t.Synopses,
				Steps:    t.Steps,
				Opened:   t.Opened,
				Rows:     t.Rows,
				Bytes:    t.Bytes,
			})
		}
	}
	return out
}

func isTime(s query.SeriesRows, i int) bool { return i < len(s.Times) && s.Times[i] != nil }

func hasBounds(s query.SeriesRows, i int) bool { return i < len(s.Least) && s.Least[i] != nil }

func (w *windowsJSON) columns(s query.SeriesRows) {
	n := len(s.Empty)
	numbers := func(v []float64) {
		column(w.to, len(v), func(out []byte, i int) []byte { return appendNumber(out, v[i]) })
	}
	each := func(name string, wanted func(i int) bool, write func(i int)) {
		w.to.text(`,"` + name + `":{`)
		first := true
		for i, stat := range s.Stats {
			if !wanted(i) {
				continue
			}
			if !first {
				w.to.text(",")
			}
			first = false
			w.to.add(strconv.AppendQuote(nil, stat)) // letters, digits and signs that JSON quotes alike
			w.to.text(":")
			write(i)
		}
		w.to.text("}")
	}
	each("values", func(i int) bool { return !isTime(s, i) }, func(i int) { numbers(s.Rows.Stats[i]) })
	each("times", func(i int) bool { return isTime(s, i) }, func(i int) {
		column(w.to, n, func(out []byte, k int) []byte { return appendTime(out, s.Times[i][k]) })
	})
	if len(s.Least) > 0 {
		each("bounds", func(i int) bool { return hasBounds(s, i) }, func(i int) {
			w.to.text(`{"least":`)
			numbers(s.Least[i])
			w.to.text(`,"most":`)
			numbers(s.Most[i])
			w.to.text("}")
		})
	}
	flags := func(name string, of []bool) {
		w.to.text(`,"` + name + `":`)
		column(w.to, n, func(out []byte, i int) []byte { return strconv.AppendBool(out, i < len(of) && of[i]) })
	}
	flags("empty", s.Empty)
	flags("filled", s.Filled)
	flags("open", s.Open)
}

func (w *windowsJSON) end(cause *client.Error) error { return w.to.endJSON(cause) }

package overmqtt

import (
	"encoding/json"
	"math"

	"github.com/fxamacker/cbor/v2"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/wire"
)

// record is one of SenML (RFC 8428).
type record struct {
	BaseName string   `json:"bn,omitempty"`
	BaseTime float64  `json:"bt,omitempty"`
	Name     string   `json:"n,omitempty"`
	Unit     string   `json:"u,omitempty"`
	Time     float64  `json:"t,omitempty"` // after the base time
	Value    *float64 `json:"v,omitempty"`
	Text     string   `json:"vs,omitempty"`
}

// labels of the fields in CBOR (RFC 8428, table 6).
const (
	labelBaseName = -2
	labelBaseTime = -3
	labelName     = 0
	labelUnit     = 1
	labelValue    = 2
	labelText     = 3
	labelTime     = 6
)

func encode(form string, pack []record) ([]byte, error) {
	if form == senMLJSON {
		return json.Marshal(pack)
	}
	out := make([]map[int]any, len(pack))
	for i, r := range pack {
		one := map[int]any{}
		for _, text := range []struct {
			label int
			text  string
		}{{labelBaseName, r.BaseName}, {labelName, r.Name}, {labelUnit, r.Unit}, {labelText, r.Text}} {
			if text.text != "" {
				one[text.label] = text.text
			}
		}
		for _, number := range []struct {
			label int
			value float64
		}{{labelBaseTime, r.BaseTime}, {labelTime, r.Time}} {
			if number.value != 0 {
				one[number.label] = number.value
			}
		}
		if r.Value != nil {
			one[labelValue] = *r.Value
		}
		out[i] = one
	}
	return cbor.Marshal(out)
}

func seconds(nanos int64) float64 { return float64(nanos) / 1e9 }

// packOf returns the summaries of a run: the time of each is the begin of its window, its name the stat.
func packOf(run wire.Run, stats []string) (out []record) {
	base := run.Rows.Times[0]
	for i, start := range run.Rows.Times {
		sum := rollup.FromRow(run.Rows, i, run.Def.Kind)
		for _, stat := range stats {
			v, unit, ok := statOf(sum, stat, run.Def, run.Tier)
			if !ok {
				continue
			}
			out = append(out, record{Name: stat, Unit: unit, Time: seconds(start - base), Value: &v})
		}
	}
	if len(out) > 0 {
		out[0].BaseName, out[0].BaseTime = string(run.Def.Path)+"/", seconds(base)
	}
	return out
}

// latestOf returns the latest value that a run tells of.
func latestOf(run wire.Run) []record {
	sum := rollup.FromRow(run.Rows, run.Rows.Len()-1, run.Def.Kind)
	one := record{BaseName: string(run.Def.Path), Unit: run.Def.Unit, BaseTime: seconds(sum.LastAt), Value: &sum.Last}
	if name := run.Def.States.Name(sum.Last); run.Def.Kind == series.State && name != "" {
		one.Value, one.Text = nil, name
	}
	return []record{one}
}

// statOf returns a stat of a summary and its unit; ok is false where its kind has none.
func statOf(sum rollup.Summary, stat string, def series.Definition, tier series.Tier) (v float64, unit string, ok bool) {
	unit, ok = def.Unit, true
	switch stat {
	case "count":
		v, unit = sum.Count, "count"
	case "mean":
		v = sum.Mean
	case "twa":
		v = sum.Held
	case "min":
		v = sum.Min
	case "max":
		v = sum.Max
	case "first":
		v = sum.First
	case "last":
		v = sum.Last
	case "sd":
		v = sum.SD()
	case "coverage":
		v, unit = float64(sum.Covered)/float64(tier), "/"
	case "increase":
		v, ok = sum.Increase, def.Kind == series.Counter
	case "restarts":
		v, unit, ok = sum.Restarts, "count", def.Kind == series.Counter
	case "changes":
		v, unit, ok = sum.Changes, "count", def.Kind == series.State
	}
	return v, unit, ok && !math.IsNaN(v) && !math.IsInf(v, 0)
}

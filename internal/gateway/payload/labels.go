package payload

import (
	"maps"
	"slices"
	"strings"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/series"
)

// labels holds the labels that a message gives the series of its values: constants, and names that
// topic, payload and look-ups bind.
type labels []label

type label struct{ key, text string }

func readLabels(at shape.Place, raw map[string]string, f *fields) (out labels) {
	sample := map[string]string{}
	for _, key := range slices.Sorted(maps.Keys(raw)) {
		sample[key] = "x"
		for i := range f.all {
			trial := raw[key]
			for _, name := range f.known(&f.all[i]) {
				trial = strings.ReplaceAll(trial, "{"+name+"}", "x")
			}
			if strings.ContainsAny(trial, "{}") || series.CheckLevel(trial) != nil {
				at.Key(key).Wrong("%q must be made of the letters of a path and of {name}s that are bound for %s (there is %s)",
					raw[key], f.all[i].series, orNothing(f.known(&f.all[i])))
				break
			}
			if f.byPayload(raw[key], f.all[i].names) {
				f.all[i].byPayload = true
			}
		}
		out = append(out, label{key, raw[key]})
	}
	if _, err := series.MakeLabels(sample); err != nil {
		at.Wrong("%v", err)
	}
	return out
}

// fill makes labels of what is bound. A label is no reason to lose a value: letters that it
// cannot have become _, and one that stays empty, or too long, is left out.
func (all labels) fill(bound map[string]string) series.Labels {
	if len(all) == 0 {
		return ""
	}
	pairs := make(map[string]string, len(all))
	for _, one := range all {
		text := one.text
		for name, value := range bound {
			text = strings.ReplaceAll(text, "{"+name+"}", value)
		}
		text = series.CleanLevel(text)
		if series.CheckLevel(text) == nil {
			pairs[one.key] = text[:min(len(text), mostLabel)]
		}
	}
	made, err := series.MakeLabels(pairs)
	if err != nil {
		return ""
	}
	return made
}

// mostLabel is so short that all labels together always fit.
const mostLabel = 40

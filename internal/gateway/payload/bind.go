package payload

import (
	"fmt"
	"maps"
	"slices"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/series"
)

// bindKeys say which names the payload itself binds.
type bindKeys struct {
	Names map[string]string `yaml:"names" says:"{name}s for use in series, and where the payload says each, such as station: /id"`
}

// check returns the places of the names, in the order in which the fields have them.
func (k bindKeys) check(at shape.Place, f *fields, place func(shape.Place, string) string) (places []string) {
	at = at.Key("names")
	for _, name := range slices.Sorted(maps.Keys(k.Names)) {
		if err := series.CheckLevel(name); err != nil {
			at.Key(name).Wrong("the name %v", err)
		}
		f.bind(at.Key(name), name)
		places = append(places, place(at.Key(name), k.Names[name]))
	}
	return places
}

// boundIn reads what a payload binds: texts and whole numbers.
func boundIn(places []string, find func(place string) (any, error)) (names []string, err error) {
	for _, place := range places {
		v, err := find(place)
		if err != nil {
			return nil, err
		}
		name, ok := textIn(v)
		if !ok {
			return nil, fmt.Errorf("%s at %s cannot be part of a series' name", describe(v), place)
		}
		names = append(names, name)
	}
	return names, nil
}

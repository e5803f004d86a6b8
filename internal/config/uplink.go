package config

import (
	"slices"
	"strings"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/series"
)

// Kinds are the kinds of what a configuration names. Each owns the shape of its part of the file.
type Kinds struct {
	Sources []SourceKind
	Uplinks []UplinkKind
}

// Uplink sends what a store holds to another place.
type Uplink struct {
	Name     string
	Tiers    []series.Tier // that it sends; nil: all there are
	Kind     string        // its key
	Settings any           // of its kind
}

// UplinkKind is a way to send. One of them has no key: its keys stand beside those of every uplink.
type UplinkKind struct {
	Key   string                            // of its part
	Says  string                            // for people
	Shape func() any                        // a new struct to fill it into
	Check func(at shape.Place, raw any) any // what it becomes
}

// uplinkFile has the keys of every uplink.
type uplinkFile struct {
	Name  string   `yaml:"name"`
	Tiers []string `yaml:"tiers"`
}

func uplinks(parts []shape.Part, kinds []UplinkKind) (out []Uplink) {
	var names []string
	for _, part := range parts {
		one := uplinkOf(part, kinds)
		names = unique(part.Key("name"), one.Name, names)
		out = append(out, one)
	}
	return out
}

func uplinkOf(part shape.Part, kinds []UplinkKind) Uplink {
	raw, keys := uplinkFile{}, map[string]any{}
	var given []UplinkKind
	var names []string
	var beside UplinkKind
	for _, k := range kinds {
		if k.Key == "" {
			beside = k
			continue
		}
		keys[k.Key], names = k.Shape(), append(names, k.Key)
		if _, there := part.Text(k.Key); there {
			given = append(given, k)
		}
	}
	out, structs := Uplink{}, []any{&raw}
	var own any
	if len(given) == 0 {
		own = beside.Shape()
		structs = append(structs, own)
	}
	part.Fill(keys, structs...)
	switch len(given) {
	case 0:
		out.Settings = beside.Check(part.Place, own)
	case 1:
		out.Kind, out.Settings = given[0].Key, given[0].Check(part.Key(given[0].Key), keys[given[0].Key])
	default:
		slices.Sort(names)
		part.Wrong("uplink %q has %d of these keys and can have one: %s", raw.Name, len(given),
			strings.Join(names, ", "))
	}
	if out.Name = raw.Name; raw.Tiers != nil {
		out.Tiers = shape.Parsed(part.Key("tiers"), raw.Tiers, series.ParseTiers).All()
	}
	return out
}

package config

import (
	"slices"
	"strings"

	"nexocumula/internal/config/shape"
)

// SourceKind is a way to collect. It owns the shape of its part of the file.
type SourceKind struct {
	Key   string                                         // of its part
	Says  string                                         // for people
	Shape func() any                                     // a new struct to fill it into
	Check func(at shape.Place, site string, raw any) any // what it becomes
}

// Needing is the settings of a source that needs something for itself alone, such as a port or a session.
type Needing interface {
	// Needs says for people what no other source may have; "" for nothing.
	Needs(source string) string
}

// sourceFile has the keys of every source.
type sourceFile struct {
	Name string `yaml:"name" is:"required" says:"unique at this gateway"`
}

func source(part shape.Part, site string, kinds []SourceKind) Source {
	raw, keys := sourceFile{}, map[string]any{}
	var given []SourceKind
	names := make([]string, len(kinds))
	for i, k := range kinds {
		keys[k.Key], names[i] = k.Shape(), k.Key
		if _, there := part.Text(k.Key); there {
			given = append(given, k)
		}
	}
	part.Fill(keys, &raw)
	out := Source{Name: raw.Name}
	for _, k := range given {
		out.Kind, out.Settings = k.Key, k.Check(part.Key(k.Key), site, keys[k.Key])
	}
	out.Print = part.Print()
	if len(given) != 1 {
		slices.Sort(names)
		part.Wrong("source %q has %d of these keys and needs exactly one: %s", raw.Name, len(given),
			strings.Join(names, ", "))
	}
	return out
}

package payload

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/series"
)

// lookup is what codes stand for.
type lookup struct {
	file  string
	names map[string]string
}

const mostCodes = 100_000

func readLookups(at shape.Place, files map[string]string, bound []string) map[string]lookup {
	out := map[string]lookup{}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if !slices.Contains(bound, name) {
			at.Key(name).Wrong("neither topic nor payload binds {%s} (there is %s)", name, orNothing(bound))
		}
		out[name] = shape.Parsed(at.Key(name), files[name], readLookup)
	}
	return out
}

func readLookup(file string) (lookup, error) {
	out := lookup{file, map[string]string{}}
	text, err := os.ReadFile(file)
	if err != nil {
		return out, err
	}
	reader := csv.NewReader(bytes.NewReader(text))
	reader.FieldsPerRecord, reader.Comment, reader.TrimLeadingSpace = 2, '#', true
	lines, err := reader.ReadAll()
	if err != nil {
		return out, fmt.Errorf("%s: %w; write a line code,name for each", file, err)
	}
	if len(lines) > mostCodes {
		return out, fmt.Errorf("%s has %d codes; at most %d are taken", file, len(lines), mostCodes)
	}
	for i, line := range lines {
		code, name := strings.TrimSpace(line[0]), strings.TrimSpace(line[1])
		if _, twice := out.names[code]; twice {
			return out, fmt.Errorf("%s: the code %q is there twice", file, code)
		}
		for _, level := range strings.Split(name, "/") { // a name may be several levels, such as a region and a station
			if err := series.CheckLevel(level); err != nil {
				return out, fmt.Errorf("%s: entry %d: the name %w", file, i+1, err)
			}
		}
		out.names[code] = name
	}
	return out, nil
}

// path is what a template becomes of names, once codes among them are looked up.
func (m *Message) path(t Template, bound map[string]string) (series.Path, error) {
	if len(m.lookup) > 0 {
		bound = maps.Clone(bound)
		for name, l := range m.lookup {
			code, there := bound[name]
			if !there {
				continue
			}
			known, ok := l.names[code]
			if !ok {
				return "", fmt.Errorf("the code %q for {%s} is not in %s", clip(code), name, l.file)
			}
			bound[name] = known
		}
	}
	return t.Path(bound)
}

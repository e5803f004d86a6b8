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

// lookup maps codes to names.
type lookup struct {
	of    string // the name that is a code
	file  string
	binds []string            // further columns
	codes map[string][]string // what the code stands for, then those columns
}

const mostCodes = 100_000

// readLookups reads the files; which names there are is checked once they are known.
func readLookups(at shape.Place, files map[string]string) (out []lookup) {
	for _, name := range slices.Sorted(maps.Keys(files)) {
		l := shape.Parsed(at.Key(name), files[name], func(file string) (lookup, error) {
			text, err := os.ReadFile(file)
			if err != nil {
				return lookup{file: file}, err
			}
			at.Key(name).Note(text)
			return readLookup(file, text)
		})
		l.of = name
		out = append(out, l)
	}
	return out
}

// checkLookups finds codes that nothing binds, and columns that bind what is bound.
func (f *fields) checkLookups(at shape.Place) {
	bound := f.bound()
	for _, l := range f.lookups {
		if !slices.Contains(f.bound(), l.of) {
			at.Key(l.of).Wrong("neither topic nor payload binds {%s} (there is %s)", l.of, orNothing(f.bound()))
		}
		for _, name := range l.binds {
			if slices.Contains(bound, name) {
				at.Key(l.of).Wrong("the column %q of %s is bound already; give it another name", name, l.file)
			}
			bound = append(bound, name)
		}
	}
}

func readLookup(file string, text []byte) (lookup, error) {
	out := lookup{file: file, codes: map[string][]string{}}
	reader := csv.NewReader(bytes.NewReader(text))
	reader.Comment, reader.TrimLeadingSpace = '#', true // the first line says how many columns there are
	lines, err := reader.ReadAll()
	switch {
	case err != nil:
		return out, fmt.Errorf("%s: %w", file, err)
	case len(lines) == 0 || len(lines[0]) < 2:
		return out, fmt.Errorf("%s: write a line code,name for each", file)
	case len(lines[0]) > 2:
		for _, name := range lines[0][2:] {
			name = strings.TrimSpace(name)
			if err := series.CheckLevel(name); err != nil {
				return out, fmt.Errorf("%s: with more than two columns the first line names them, and the name %w",
					file, err)
			}
			out.binds = append(out.binds, name)
		}
		lines = lines[1:]
	}
	if len(lines) > mostCodes {
		return out, fmt.Errorf("%s has %d codes; at most %d are taken", file, len(lines), mostCodes)
	}
	for i, line := range lines {
		for at := range line {
			line[at] = strings.TrimSpace(line[at])
		}
		if _, twice := out.codes[line[0]]; twice {
			return out, fmt.Errorf("%s: the code %q is there twice", file, line[0])
		}
		for _, level := range strings.Split(line[1], "/") { // a name may be several levels, such as a region and a station
			if err := series.CheckLevel(level); err != nil {
				return out, fmt.Errorf("%s: entry %d: the name %w", file, i+1, err)
			}
		}
		out.codes[line[0]] = line[1:]
	}
	return out, nil
}

// looked reports whether a name comes of a look-up.
func (f *fields) looked(name string) bool {
	return slices.ContainsFunc(f.lookups, func(l lookup) bool { return l.of == name || slices.Contains(l.binds, name) })
}

// lookUp replaces codes by the names that they stand for.
func (f *fields) lookUp(bound map[string]string) (map[string]string, error) {
	if len(f.lookups) == 0 {
		return bound, nil
	}
	out := maps.Clone(bound)
	for _, l := range f.lookups {
		code, there := bound[l.of]
		if !there {
			continue
		}
		known, ok := l.codes[code]
		if !ok {
			return nil, fmt.Errorf("the code %q for {%s} is not in %s", clip(code), l.of, l.file)
		}
		out[l.of] = known[0]
		for i, name := range l.binds {
			out[name] = known[1+i]
		}
	}
	return out, nil
}

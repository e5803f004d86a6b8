package payload

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"nexocumula/internal/config/shape"
)

// textKeys are the keys of texts with separators.
type textKeys struct {
	Separator string `yaml:"separator" is:"," says:"between columns, exactly as written; blanks for any number of spaces and tabs"`
	Records   string `yaml:"records" is:"one" says:"what stands between records, such as \"\\n\" or \"|\", when several come in one message"`
	Pairs     string `yaml:"pairs" is:"by column" says:"what stands between a name and its value, such as \"=\" or \":\"; then at is a name, and columns may come in any order"`
	Columns   int    `yaml:"columns" is:"required by column" says:"how many columns a record has; a message with another number is rejected whole"`

	numeralKey `yaml:",inline"`
	timeKeys   `yaml:",inline"`
	bindKeys   `yaml:",inline"`
	Values     []textValue `yaml:"values" is:"required" says:"list"`
}

type textValue struct {
	At         string   `yaml:"at" is:"required" says:"column, counted from 1, or name"`
	FollowedBy []string `yaml:"followed_by" says:"as of a number"`
	fieldKeys  `yaml:",inline"`
}

const mostColumns = 1000

func (k *textKeys) decoder(at shape.Place, f *fields) decoder {
	r := textReader{separator: k.Separator, records: k.Records, pairs: k.Pairs, columns: k.Columns, read: k.numeral(at)}
	if r.separator == "" {
		r.separator = ","
	}
	switch {
	case r.pairs == "" && (r.columns < 1 || r.columns > mostColumns):
		at.Key("columns").Wrong("say how many columns a record has, 1 to %d, so that one with another number is not taken for it", mostColumns)
	case r.pairs != "" && r.columns != 0:
		at.Key("columns").Wrong("with pairs: columns have names, and any number may come; leave columns out")
	case r.separator == " ":
		at.Key("separator").Advise("columns are separated by exactly one space; write blanks where there may be more")
	case r.separator == r.records, r.pairs != "" && (r.pairs == r.separator || r.pairs == r.records):
		at.Key("separator").Wrong("separator, records and pairs must differ")
	}
	place := func(at shape.Place, text string) string {
		if n, err := strconv.Atoi(text); r.pairs == "" && (err != nil || n < 1 || n > r.columns) {
			at.Wrong("%q is not a column; columns are counted from 1 to %d", text, r.columns)
		}
		if text == "" {
			at.Wrong("say which name the value has")
		}
		return text
	}
	r.clock = k.timeKeys.clock(at, f, place)
	r.names = k.bindKeys.check(at, f, place)
	if len(k.Values) == 0 {
		at.Key("values").Wrong("a text needs values:, a list of {at: column or name, series: path}")
	}
	for i, v := range k.Values {
		at := at.Key("values").Item(i)
		r.places = append(r.places, place(at.Key("at"), v.At))
		r.behind = append(r.behind, v.FollowedBy)
		r.states = append(r.states, v.State)
		f.add(at, v.fieldKeys)
	}
	r.clock.watch(at, f, k.Offset)
	return r.decode
}

type textReader struct {
	separator, records, pairs string
	columns                   int
	read                      func(string) (float64, error)
	clock                     clock
	names                     []string // places of what the payload binds
	places                    []string // of each field
	behind                    [][]string
	states                    []bool // of each field: texts are names of states
}

func (r *textReader) decode(payload []byte, emit func(value)) error {
	text := r.trimmed(string(payload))
	records := []string{text}
	if r.records != "" {
		records = strings.Split(text, r.records)
	}
	if err := tooMany(len(records), len(r.places)); err != nil {
		return err
	}
	var parsed []map[string]string
	for i, record := range records {
		if record = r.trimmed(record); record == "" && i > 0 && i == len(records)-1 {
			continue // what separates records also ends the last
		}
		columns, err := r.split(record)
		if err != nil {
			if len(records) > 1 {
				err = fmt.Errorf("record %d: %w", i+1, err)
			}
			return err
		}
		parsed = append(parsed, columns)
	}
	for i, columns := range parsed {
		number := 0
		if len(parsed) > 1 {
			number = i + 1
		}
		err := r.record(columns, func(v value) {
			v.record = number
			emit(v)
		})
		if err != nil {
			emit(value{field: noField, err: err, record: number})
		}
	}
	return nil
}

// blanks is the separator that stands for any number of spaces and tabs.
const blanks = "blanks"

// trimmed returns a text without the white space around it that separates no columns.
func (r *textReader) trimmed(text string) string {
	return strings.TrimFunc(text, func(c rune) bool {
		return unicode.IsSpace(c) && (r.separator == blanks || c != ' ' && c != '\t' || !strings.ContainsRune(r.separator, c))
	})
}

// split returns a record by the places of its columns.
func (r *textReader) split(record string) (map[string]string, error) {
	var pieces []string
	if r.separator == blanks {
		pieces = strings.Fields(record)
	} else {
		pieces = strings.Split(record, r.separator)
	}
	if r.pairs == "" && len(pieces) != r.columns {
		return nil, fmt.Errorf("%d column(s) between %q, where %d belong: %q", len(pieces), r.separator, r.columns, clip(record))
	}
	out := make(map[string]string, len(pieces))
	for i, piece := range pieces {
		if r.pairs == "" {
			out[strconv.Itoa(i+1)] = strings.TrimSpace(piece)
			continue
		}
		name, text, ok := strings.Cut(piece, r.pairs)
		if name = strings.TrimSpace(name); !ok || name == "" {
			return nil, fmt.Errorf("%q is no name and value with %q between them", clip(piece), r.pairs)
		}
		if _, twice := out[name]; twice {
			return nil, fmt.Errorf("%q stands there twice", clip(name))
		}
		out[name] = strings.TrimSpace(text)
	}
	return out, nil
}

// record decodes one. Without a time or names nothing of it can be used.
func (r *textReader) record(columns map[string]string, emit func(value)) error {
	find := func(place string) (any, error) {
		if text, ok := columns[place]; ok {
			return text, nil
		}
		return nil, fmt.Errorf("payload has no %s; it has %s", place, clip(strings.Join(slices.Sorted(maps.Keys(columns)), ", ")))
	}
	when, err := r.clock.read(find)
	if err != nil {
		return err
	}
	names, err := boundIn(r.names, find)
	if err != nil {
		return err
	}
	r.clock.tell(when, names, emit)
	for field, place := range r.places {
		v := value{field: field, names: names, when: when}
		var found any
		if found, v.err = find(place); v.err == nil {
			v.raw, v.err = r.number(found.(string), r.behind[field])
			if v.err != nil && r.states[field] && found != "" {
				v.text, v.err = found.(string), nil
			}
			if v.err != nil && r.pairs == "" {
				v.err = fmt.Errorf("column %s: %w", place, v.err)
			}
		}
		emit(v)
	}
	return nil
}

func (r *textReader) number(text string, behind []string) (float64, error) {
	for _, unit := range behind {
		if number, ok := strings.CutSuffix(text, unit); ok && unit != "" {
			return r.read(strings.TrimSpace(number))
		}
	}
	return r.read(text)
}

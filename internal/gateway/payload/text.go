package payload

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"nexocumula/internal/config/shape"
)

// textKeys are the keys of texts with separators.
type textKeys struct {
	columnKeys  `yaml:",inline"`
	numeralKeys `yaml:",inline"`
	missingKeys `yaml:",inline"`
	timeKeys    `yaml:",inline"`
	bindKeys    `yaml:",inline"`
	Values      []textValue `yaml:"values" is:"required" says:"list"`
}

type textValue struct {
	At          string `yaml:"at" is:"required" says:"column, counted from 1, or name"`
	fieldKeys   `yaml:",inline"`
	writtenKeys `yaml:",inline"`
	placedKeys  `yaml:",inline"`
}

const mostColumns = 1000

func (k *textKeys) decoder(at shape.Place, f *fields) decoder {
	r := textReader{columns: k.columnKeys.check(at)}
	place := r.columns.place
	r.clock = k.timeKeys.clock(at, f, place)
	r.names = k.bindKeys.check(at, f, place)
	r.numbered = f.number(slices.ContainsFunc(k.Values, func(v textValue) bool { return usesNumber(v.Series) }))
	if len(k.Values) == 0 {
		at.Key("values").Wrong("a text needs values:, a list of {at: column or name, series: path}")
	}
	read := k.numeral(at)
	for i, v := range k.Values {
		at := at.Key("values").Item(i)
		r.fields = append(r.fields, textField{
			at: place(at.Key("at"), v.At), written: v.writtenKeys.check(at, read, v.State, false, k.NotAvailable...), placed: v.placedKeys.check(at,
				place),
		})
		f.add(at, v.fieldKeys)
	}
	r.clock.watch(at, f, k.Offset)
	return r.decode
}

type textReader struct {
	columns  columns
	clock    clock
	names    []string // places of what the payload binds
	numbered bool     // {n} is bound to the number of a record
	fields   []textField
}

type textField struct {
	at string
	written
	placed
}

func (r *textReader) decode(payload []byte, emit func(value)) error {
	records, err := r.columns.split(readText(payload), len(r.fields))
	if err != nil {
		return err
	}
	for i, columns := range records {
		number := 0
		if len(records) > 1 {
			number = i + 1
		}
		err := r.record(columns, i+1, func(v value) {
			v.record = number
			emit(v)
		})
		if err != nil {
			emit(value{field: noField, err: err, record: number})
		}
	}
	return nil
}

// record decodes one. Without a time or names nothing of it can be used.
func (r *textReader) record(columns map[string]string, number int, emit func(value)) error {
	find := func(place string) (any, error) {
		if text, ok := columns[place]; ok {
			return text, nil
		}
		return nil, fmt.Errorf("payload has no %s; it has %s", place,
			clip(strings.Join(slices.Sorted(maps.Keys(columns)), ", ")))
	}
	when, err := r.clock.read(find)
	if err != nil {
		return err
	}
	names, err := boundIn(r.names, find)
	if err != nil {
		return err
	}
	if r.numbered {
		names = append(names, strconv.Itoa(number))
	}
	r.clock.tell(when, names, emit)
	used, instead := false, []string(nil)
	for i := range r.fields {
		of := &r.fields[i]
		ok, other := of.applies(find)
		if !ok {
			instead = append(instead, other)
			continue
		}
		used = true
		v := value{field: i, names: names, when: when}
		found, err := find(of.at)
		if text, _ := found.(string); of.optional && (err != nil || text == "") {
			continue
		}
		if v.err = err; err == nil {
			if v.err = of.textual(&v, found.(string)); v.err != nil && !r.columns.byName() {
				v.err = fmt.Errorf("column %s: %w", of.at, v.err)
			}
			of.unit(&v, find)
		}
		emit(v)
	}
	if !used && len(instead) > 0 {
		return idle(instead)
	}
	return nil
}

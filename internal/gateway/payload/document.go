package payload

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"nexocumula/internal/config/shape"
)

// documentKeys are the keys of payloads that are one document, such as JSON.
type documentKeys struct {
	Records string `yaml:"records" is:"one" says:"JSON Pointer to an array of records, each with its own time, names and values; / is the whole document. Pointers begin in the record; what is not there is looked for in the whole document. {n} is the record's number, from 1"`

	numeralKeys `yaml:",inline"`
	missingKeys `yaml:",inline"`
	timeKeys    `yaml:",inline"`
	bindKeys    `yaml:",inline"`
	Values      []documentValue `yaml:"values" is:"required" says:"list"`
}

type documentValue struct {
	At        string `yaml:"at" says:"JSON Pointer to the value; with members_of or items_of, within each of them. A text that is JSON itself is gone into"`
	MembersOf string `yaml:"members_of" says:"JSON Pointer to an object each of whose members is a value; {key} is its key, for use in series"`
	ItemsOf   string `yaml:"items_of" says:"or to an array whose items are values; {n} is an item's number, from 1"`
	AllBelow  string `yaml:"all_below" says:"or to an object of which everything is a value, at whatever depth; {key} is the keys that lead there, joined by _. What the time, names and other values are bound to is left out"`
	SamplesOf string `yaml:"samples_of" says:"or to an array of numbers measured one after another, interval apart"`
	Interval  string `yaml:"interval" says:"time between two samples, such as 100ms. The payload's time is that of the first sample. If the payload has no time, the last sample has the time of arrival"`

	fieldKeys   `yaml:",inline"`
	writtenKeys `yaml:",inline"`
	placedKeys  `yaml:",inline"`

	Encoding string      `yaml:"encoding" is:"base64" says:"with layout: how the text at this place encodes bytes: base64 or hex"`
	Layout   *layoutKeys `yaml:"layout" says:"instead of series: the places of values in these bytes, as in a binary payload"`
}

// spread is how a value's place leads to values.
type spread int

const (
	single  spread = iota
	members        // of an object
	items          // of an array
	below          // all of an object, at whatever depth
	samples        // of an array, one after another
	inBytes        // values in the bytes that a text stands for
)

// documents decodes payloads that parse makes a document of.
func (k *documentKeys) documents(at shape.Place, f *fields, form string, parse func([]byte) (any, error)) decoder {
	r := documentReader{parse: parse, alone: form == "xml", pointers: map[string]pointer{}}
	if k.Records == "/" {
		k.Records = ""
		r.many = true
	}
	r.many = r.many || k.Records != ""
	r.records = shape.Parsed(at.Key("records"), k.Records, parsePointer)
	r.clock = k.timeKeys.clock(at, f, r.place)
	r.names = k.bindKeys.check(at, f, r.place)
	if r.many {
		r.numbered = f.number(slices.ContainsFunc(k.Values,
			func(v documentValue) bool { return v.ItemsOf == "" && usesNumber(v.Series) }))
	}
	if len(k.Values) == 0 {
		at.Key("values").Wrong("a %s payload needs values:, a list of {at: JSON Pointer, series: path}", form)
	}
	read, usual := k.numeral(at), k.Decimal == "" && k.Thousands == ""
	for i, v := range k.Values {
		at := at.Key("values").Item(i)
		of := v.check(at, f, r.place)
		of.written = v.writtenKeys.check(at, read, v.State, usual, k.NotAvailable...)
		r.fields = append(r.fields, of)
	}
	r.clock.watch(at, f, k.Offset)
	return r.decode
}

// place remembers the pointer to something that the configuration names.
func (r *documentReader) place(at shape.Place, text string) string {
	r.pointers[text] = shape.Parsed(at, text, parsePointer)
	return text
}

// check adds a value, or the values of a layout, to the fields.
func (k *documentValue) check(at shape.Place, f *fields, place func(shape.Place, string) string) documentField {
	out := documentField{placed: k.placedKeys.check(at, place), field: len(f.all)}
	own := f.payload
	defer func() { f.payload = own }() // {key} and {n} are of this value
	chosen := 0
	for _, one := range []struct {
		as    spread
		key   string
		place string
		binds string
	}{
		{members, "members_of", k.MembersOf, "key"}, {items, "items_of", k.ItemsOf, "n"},
		{below, "all_below", k.AllBelow, "key"}, {samples, "samples_of", k.SamplesOf, ""},
	} {
		if one.place == "" {
			continue
		}
		if chosen++; one.binds != "" {
			f.payload = append(own[:len(own):len(own)], one.binds)
		}
		out.spread = one.as
		out.pointer = shape.Parsed(at.Key(one.key), strings.TrimSuffix(one.place, "/"), parsePointer)
	}
	switch {
	case chosen > 1:
		at.Key("at").Wrong("give one of members_of, items_of, all_below and samples_of")
	case k.At != "" && (out.spread == below || out.spread == samples):
		at.Key("at").Wrong("give one of at, all_below and samples_of")
	case chosen == 0:
		out.pointer = shape.Parsed(at.Key("at"), k.At, parsePointer)
	default:
		out.within = shape.Parsed(at.Key("at"), k.At, parsePointer)
	}
	if out.interval = at.Key("interval").Duration(k.Interval, 0); (out.interval > 0) != (out.spread == samples) {
		at.Key("interval").Wrong("samples_of needs interval: by how much two samples are apart, such as 100ms; other values have none")
	}
	if k.Layout == nil {
		checkEncoding(at.Key("encoding"), k.Encoding)
		if k.Encoding != "" {
			at.Key("encoding").Wrong("encoding says how bytes are written that layout: takes apart; give layout: too")
		}
		f.add(at, k.fieldKeys)
		return out
	}
	if chosen > 0 || k.Series != "" {
		at.Key("layout").Wrong("with layout: say with at: where the bytes stand, and give its values their series")
	}
	checkEncoding(at.Key("encoding"), k.Encoding)
	out.spread, out.encoding = inBytes, k.Encoding
	out.layout = k.Layout.check(at.Key("layout"), f, nil)
	return out
}

type documentReader struct {
	parse    func([]byte) (any, error)
	alone    bool // an array of one cannot be told from what it holds, as in XML
	many     bool
	numbered bool // {n} is bound to the number of a record
	records  pointer
	pointers map[string]pointer
	clock    clock
	names    []string
	fields   []documentField
}

func (r *documentReader) decode(payload []byte, emit func(value)) error {
	root, err := r.parse(payload)
	if err != nil {
		return err
	}
	if !r.many {
		return r.record(root, root, 0, emit)
	}
	found, err := r.records.in(root)
	if err != nil {
		return err
	}
	records, ok := found.([]any)
	if !ok && r.alone {
		records, ok = []any{found}, true
	}
	if !ok {
		return fmt.Errorf("payload has %s at %q where an array of records should be", describe(found), r.records.text)
	}
	if err := tooMany(len(records), len(r.fields)); err != nil {
		return err
	}
	for i, record := range records {
		err, broken := record.(error)
		if !broken {
			err = r.record(root, record, i+1, func(v value) {
				v.record = i + 1
				emit(v)
			})
		}
		if err != nil {
			emit(value{field: noField, err: err, record: i + 1})
		}
	}
	return nil
}

// record decodes one; what is not in it is looked for around it. Without a time or names
// nothing of it can be used.
func (r *documentReader) record(root, record any, number int, emit func(value)) error {
	find := func(p pointer) (any, error) {
		v, err := p.in(record)
		if err != nil && r.many {
			if around, wider := p.in(root); wider == nil {
				return around, nil
			}
		}
		return v, err
	}
	byPlace := func(place string) (any, error) { return find(r.pointers[place]) }
	when, err := r.clock.read(byPlace)
	if err != nil {
		return err
	}
	names, err := boundIn(r.names, byPlace)
	if err != nil {
		return err
	}
	if r.numbered {
		names = append(names, strconv.Itoa(number))
	}
	r.clock.tell(when, names, emit)
	used := false
	var instead []string
	for i := range r.fields {
		of := &r.fields[i]
		ok, other := of.applies(byPlace)
		if !ok {
			instead = append(instead, other)
			continue
		}
		used = true
		v := value{field: of.field, names: names, when: when}
		found, err := find(of.pointer)
		switch {
		case err != nil && of.optional:
		case err != nil:
			v.err = err
			emit(v)
		default:
			r.values(v, of, found, func(v value) {
				of.unit(&v, byPlace)
				emit(v)
			})
		}
	}
	if !used && len(instead) > 0 {
		return idle(instead)
	}
	return nil
}

// objectIn returns an object of JSON, or one of CBOR, whose keys may be anything.
func objectIn(found any) (object map[string]any, ok bool) {
	if other, is := found.(map[any]any); is {
		object = make(map[string]any, len(other))
		for key, member := range other {
			object[fmt.Sprint(key)] = plainValue(member)
		}
		return object, true
	}
	object, ok = found.(map[string]any)
	return object, ok
}

package payload

import (
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"nexocumula/internal/config/shape"
)

// senmlKeys say which of SenML's names become which series.
type senmlKeys struct {
	Values []senmlValue `yaml:"values" is:"required" says:"list; the first whose name matches counts"`
}

type senmlValue struct {
	Name      string `yaml:"name" is:"required" says:"as it is after bn is put before n; {name} takes one part, up to the next of / : ; or a blank"`
	fieldKeys `yaml:",inline"`
}

type (
	senmlJSONKeys struct {
		senmlKeys `yaml:",inline"`
	}
	senmlCBORKeys struct {
		senmlKeys `yaml:",inline"`
	}
)

func (k *senmlJSONKeys) decoder(at shape.Place, f *fields) decoder {
	return k.packs(at, f, readJSON, nil)
}

// senmlLabels are CBOR's (RFC 8428, 6, table 4).
var senmlLabels = map[string]string{
	"-1": "bver", "-2": "bn", "-3": "bt", "-4": "bu", "-5": "bv", "-6": "bs",
	"0": "n", "1": "u", "2": "v", "3": "vs", "4": "vb", "5": "s", "6": "t", "7": "ut", "8": "vd",
}

func (k *senmlCBORKeys) decoder(at shape.Place, f *fields) decoder {
	return k.packs(at, f, readCBOR, senmlLabel)
}

func senmlLabel(label string) string {
	if name, ok := senmlLabels[label]; ok {
		return name
	}
	return label
}

func (k *senmlKeys) packs(at shape.Place, f *fields, parse func([]byte) (any, error), label func(string) string) decoder {
	f.ownTimes = true
	r := &senmlReader{parse: parse, label: label}
	if len(k.Values) == 0 {
		at.Key("values").Wrong("SenML needs values:, a list of {name: its name, series: path}")
	}
	for i, v := range k.Values {
		at := at.Key("values").Item(i)
		name := shape.Parsed(at.Key("name"), v.Name, parseSenMLName)
		f.payload = nil
		f.bind(at.Key("name"), name.binds...)
		f.add(at, v.fieldKeys)
		r.fields, r.states = append(r.fields, name), append(r.states, v.State)
	}
	return r.decode
}

// senmlName is a pattern over SenML's names.
type senmlName struct {
	text    string
	pattern *regexp.Regexp
	binds   []string
}

var placeholder = regexp.MustCompile(`\{[^{}]*\}`)

func parseSenMLName(text string) (senmlName, error) {
	out := senmlName{text: text}
	if text == "" {
		return out, fmt.Errorf("say which name, such as urn:dev:ow:10e2073a01080063:temp or urn:dev:{station}:{quantity}")
	}
	pattern, rest := "^", text
	for {
		at := placeholder.FindStringIndex(rest)
		if at == nil {
			break
		}
		name, ok, err := bracedName(rest[at[0]:at[1]])
		if err != nil || !ok || slices.Contains(out.binds, name) {
			return out, fmt.Errorf("name %q: %s must be a name in braces, each once", text, rest[at[0]:at[1]])
		}
		pattern += regexp.QuoteMeta(rest[:at[0]]) + `([^/:;\s]+)`
		out.binds, rest = append(out.binds, name), rest[at[1]:]
	}
	var err error
	out.pattern, err = regexp.Compile(pattern + regexp.QuoteMeta(rest) + "$")
	return out, err
}

type senmlReader struct {
	parse  func([]byte) (any, error)
	label  func(string) string
	fields []senmlName
	known  sync.Map     // name → called, as names come again and again
	count  atomic.Int64 // of those
	states []bool       // of each field: texts are names of states
}

// Limits of RFC 8428.
const (
	senmlVersion  = 10
	senmlAbsolute = 1 << 28 // times before this, in s, are counted from now (4.5.3)
)

// senmlBase holds the base fields that apply to the records that follow (RFC 8428, 4.1).
type senmlBase struct {
	name, unit  string
	time, value float64
	timeText    any // bt as it stands there, for times without a t of their own
}

func (r *senmlReader) decode(payload []byte, emit func(value)) error {
	return r.pack(payload, func(record senmlRecord) {
		v := record.value
		r.call(&v, record.name)
		if v.text != "" && v.field != noField && !r.states[v.field] {
			v.raw, v.err = numberIn(v.text, "vs")
			v.text = ""
		}
		emit(v)
	})
}

// pack calls emit for each value of a pack, once all of it has been understood.
func (r *senmlReader) pack(payload []byte, emit func(senmlRecord)) error {
	root, err := r.parse(payload)
	if err != nil {
		return err
	}
	records, ok := root.([]any)
	if !ok {
		return fmt.Errorf("payload is %s where SenML's array of records should be", describe(root))
	}
	if err := tooMany(len(records), 1); err != nil {
		return err
	}
	var base senmlBase
	var values []senmlRecord
	for i, one := range records {
		record, err := senmlLabelled(one, r.label)
		if err == nil {
			err = base.take(&record)
		}
		var v senmlRecord
		var is bool
		if err == nil {
			v, is, err = base.resolve(&record)
		}
		if err != nil {
			return fmt.Errorf("payload: record %d: %w", i+1, err)
		}
		if is {
			v.record = i + 1
			values = append(values, v)
		}
	}
	for _, v := range values {
		emit(v)
	}
	return nil
}

// senmlRecord is a value with its whole name.
type senmlRecord struct {
	name string
	value
}

// senmlRecordOf are the fields of a record by the place of their labels; nil where there is none.
type senmlRecordOf [senmlPlaces]any

// Places of the labels of RFC 8428, table 1.
const (
	labelBN = iota
	labelBT
	labelBU
	labelBV
	labelBS
	labelBVer
	labelN
	labelU
	labelV
	labelVS
	labelVB
	labelVD
	labelS
	labelT
	labelUT
	senmlPlaces
)

// senmlKnown are the labels, with their places and what each holds.
var senmlKnown = map[string]struct {
	place int
	of    senmlType
}{
	"bn": {labelBN, senmlText}, "bt": {labelBT, senmlNumber}, "bu": {labelBU, senmlText}, "bv": {labelBV, senmlNumber}, "bs": {labelBS, senmlNumber}, "bver": {labelBVer, senmlNumber},
	"n": {labelN, senmlText}, "u": {labelU, senmlText}, "v": {labelV, senmlNumber}, "vs": {labelVS, senmlText}, "vb": {labelVB, senmlBool}, "vd": {labelVD, senmlData},
	"s": {labelS, senmlNumber}, "t": {labelT, senmlNumber}, "ut": {labelUT, senmlNumber},
}

// senmlLabelled checks the labels of a record, and what they hold. named gives the labels of
// another form their names in JSON; nil: they have them.
func senmlLabelled(one any, named func(string) string) (out senmlRecordOf, err error) {
	record, ok := one.(map[string]any)
	if other, is := one.(map[any]any); is {
		record, ok = make(map[string]any, len(other)), true
		for label, v := range other {
			record[fmt.Sprint(label)] = plainValue(v)
		}
	}
	if !ok {
		return out, fmt.Errorf("%s where an object should be", describe(one))
	}
	for label, v := range record {
		if named != nil {
			label = named(label)
		}
		wanted, known := senmlKnown[label]
		switch {
		case known && wanted.of.holds(v):
			out[wanted.place] = v
		case known:
			return out, fmt.Errorf("%s is %s where %s should be", label, describe(v), wanted.of)
		case strings.HasSuffix(label, "_"):
			return out, fmt.Errorf("%q must be understood (RFC 8428, 4.4), and is not", clip(label))
		}
	}
	return out, nil
}

// senmlType is the type of a label's value.
type senmlType string

func (t senmlType) holds(v any) bool {
	switch v.(type) {
	case string:
		return t == senmlText || t == senmlData
	case []byte:
		return t == senmlData
	case bool:
		return t == senmlBool
	case json.Number, float64, int64:
		return t == senmlNumber
	}
	return false
}

const (
	senmlText   senmlType = "a text"
	senmlNumber senmlType = "a number"
	senmlBool   senmlType = "true or false"
	senmlData   senmlType = "data"
)

func (b *senmlBase) take(record *senmlRecordOf) error {
	if v := record[labelBVer]; v != nil {
		if n, _ := numberIn(v, "bver"); n < 1 || n > senmlVersion {
			return fmt.Errorf("its version is %v; versions up to %d are understood", n, senmlVersion)
		}
	}
	if v, ok := record[labelBN].(string); ok {
		b.name = v
	}
	if v, ok := record[labelBU].(string); ok {
		b.unit = v
	}
	var err error
	if v := record[labelBV]; v != nil {
		if b.value, err = numberIn(v, "bv"); err != nil {
			return err
		}
	}
	if v := record[labelBT]; v != nil {
		b.timeText = v
		b.time, err = numberIn(v, "bt")
	}
	return err
}

// resolve returns the value of a record, if it has one.
func (b *senmlBase) resolve(record *senmlRecordOf) (v senmlRecord, is bool, err error) {
	text, _ := record[labelN].(string)
	v.name = b.name + text
	for _, label := range []int{labelV, labelVB, labelVS, labelVD} {
		if record[label] != nil {
			if is {
				return v, false, fmt.Errorf("it has two values")
			}
			is = true
		}
	}
	if !is && record[labelS] == nil {
		return v, false, nil // base fields alone
	}
	if v.name == "" {
		return v, false, fmt.Errorf("it has neither n nor a bn before it")
	}
	if u, ok := record[labelU].(string); ok {
		v.unit = u
	} else {
		v.unit = b.unit
	}
	if v.when, err = b.when(record); err != nil {
		return v, false, err
	}
	if text, ok := record[labelVS].(string); ok {
		v.text = text
	} else {
		v.raw, v.err = b.number(record)
	}
	return v, true, nil
}

func (b *senmlBase) number(record *senmlRecordOf) (float64, error) {
	if v := record[labelV]; v != nil {
		n, err := numberIn(v, "v")
		return b.value + n, err
	}
	if v := record[labelVB]; v != nil {
		return numberIn(v, "vb")
	}
	if record[labelVD] != nil {
		return 0, fmt.Errorf("has data where a number should be")
	}
	return 0, fmt.Errorf("has a sum and no value where a number should be")
}

// when follows RFC 8428, 4.5.3.
func (b *senmlBase) when(record *senmlRecordOf) (*when, error) {
	own := record[labelT]
	seconds, exact := b.time, b.timeText
	if own != nil {
		t, err := numberIn(own, "t")
		if err != nil {
			return nil, err
		}
		if seconds += t; b.timeText == nil || b.time == 0 {
			exact = own
		} else {
			exact = nil
		}
	}
	if math.Abs(seconds) < senmlAbsolute {
		return &when{relative: true, at: int64(math.Round(seconds * 1e9))}, nil
	}
	if exact == nil {
		from, err := countedTime(b.timeText, "s", 1e9)
		if err != nil {
			return nil, err
		}
		more, err := countedTime(own, "s", 1e9)
		return &when{at: from + more}, err
	}
	at, err := countedTime(exact, "s", 1e9)
	return &when{at: at}, err
}

// called is which field a name is of, and what it binds.
type called struct {
	field int
	names []string
}

// call says which field a value of that name is of.
func (r *senmlReader) call(v *value, name string) {
	if known, ok := r.known.Load(name); ok {
		v.field, v.names = known.(called).field, known.(called).names
		return
	}
	for i, of := range r.fields {
		if found := of.pattern.FindStringSubmatch(name); found != nil {
			v.field, v.names = i, found[1:]
			if r.count.Add(1) <= maxCalled {
				r.known.Store(strings.Clone(name), called{v.field, v.names})
			}
			return
		}
	}
	v.field, v.err = noField, fmt.Errorf("no values: entry takes the name %q", clip(name))
}

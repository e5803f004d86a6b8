package payload

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-openapi/jsonpointer"

	"nexocumula/internal/config/shape"
)

// jsonKeys are the keys of payloads that are one document, such as JSON.
type jsonKeys struct {
	Records string `yaml:"records" is:"one" says:"JSON Pointer to an array of records, each with its own time, names and values; / is the whole document. Pointers begin in the record; what is not there is looked for in the whole document"`

	timeKeys `yaml:",inline"`
	bindKeys `yaml:",inline"`
	Values   []jsonValue `yaml:"values" is:"required" says:"list"`
}

type jsonValue struct {
	At        string `yaml:"at" says:"JSON Pointer to the value"`
	MembersOf string `yaml:"members_of" says:"instead of at: JSON Pointer to an object each of whose members is a value; {key} is its key, for use in series"`
	AllBelow  string `yaml:"all_below" says:"or JSON Pointer to an object of which everything is a value, at whatever depth; {key} is the keys that lead there, joined by _. What the time, names and other values are bound to is left out"`
	fieldKeys `yaml:",inline"`
}

func (k *jsonKeys) decoder(at shape.Place, f *fields) decoder {
	parse := readJSON
	if k.TimeForm == "unix_ns" || k.TimeForm == "unix_us" {
		parse = readExactJSON
	}
	return k.documents(at, f, "json", parse)
}

// documents decodes payloads that parse makes a document of.
func (k *jsonKeys) documents(at shape.Place, f *fields, form string, parse func([]byte) (any, error)) decoder {
	r := documentReader{parse: parse}
	if k.Records == "/" {
		k.Records = ""
		r.many = true
	}
	r.many = r.many || k.Records != ""
	r.records = shape.Parsed(at.Key("records"), k.Records, parsePointer)
	r.pointers = map[string]pointer{}
	place := func(at shape.Place, text string) string {
		r.pointers[text] = shape.Parsed(at, text, parsePointer)
		return text
	}
	r.clock = k.timeKeys.clock(at, f, place)
	r.names = k.bindKeys.check(at, f, place)
	if len(k.Values) == 0 {
		at.Key("values").Wrong("a %s payload needs values:, a list of {at: JSON Pointer, series: path}", form)
	}
	own := f.payload
	for i, v := range k.Values {
		at := at.Key("values").Item(i)
		of := jsonField{pointer: shape.Parsed(at.Key("at"), v.At, parsePointer), state: v.State, members: v.MembersOf != "", below: v.AllBelow != ""}
		if of.members || of.below {
			if v.At != "" || of.members && of.below {
				at.Key("at").Wrong("give one of at, members_of and all_below")
			}
			object := shape.Parsed(at.Key("members_of"), strings.TrimSuffix(v.MembersOf, "/"), parsePointer)
			if of.below {
				object = shape.Parsed(at.Key("all_below"), strings.TrimSuffix(v.AllBelow, "/"), parsePointer)
			}
			of.pointer = object
			f.payload = append(own[:len(own):len(own)], "key")
		}
		f.add(at, v.fieldKeys)
		f.payload = own
		r.fields = append(r.fields, of)
	}
	r.clock.watch(at, f, k.Offset)
	return r.decode
}

type documentReader struct {
	parse    func([]byte) (any, error)
	many     bool
	records  pointer
	pointers map[string]pointer
	clock    clock
	names    []string
	fields   []jsonField
}

type jsonField struct {
	pointer
	members bool
	below   bool // everything below it, at whatever depth
	state   bool // texts are names of states
}

func (r *documentReader) decode(payload []byte, emit func(value)) error {
	root, err := r.parse(payload)
	if err != nil {
		return err
	}
	if !r.many {
		return r.record(root, root, emit)
	}
	found, err := r.records.in(root)
	if err != nil {
		return err
	}
	records, ok := found.([]any)
	if !ok {
		return fmt.Errorf("payload has %s at %q where an array of records should be", describe(found), r.records.text)
	}
	if err := tooMany(len(records), len(r.fields)); err != nil {
		return err
	}
	for i, record := range records {
		err := r.record(root, record, func(v value) {
			v.record = i + 1
			emit(v)
		})
		if err != nil {
			emit(value{field: noField, err: err, record: i + 1})
		}
	}
	return nil
}

// record decodes one; what is not in it is looked for around it. Without a time or names
// nothing of it can be used.
func (r *documentReader) record(root, record any, emit func(value)) error {
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
	r.clock.tell(when, names, emit)
	for i, of := range r.fields {
		v := value{field: i, names: names, when: when}
		var found any
		found, v.err = find(of.pointer)
		switch {
		case v.err != nil:
		case of.members || of.below:
			r.members(v, of, found, emit)
			continue
		default:
			v.take(found, of.text, of.state)
		}
		emit(v)
	}
	return nil
}

func (r *documentReader) members(like value, of jsonField, found any, emit func(value)) {
	object, ok := objectIn(found)
	if !ok {
		like.err = fmt.Errorf("payload has %s at %s where an object should be", describe(found), of.text)
		emit(like)
		return
	}
	for _, key := range slices.Sorted(maps.Keys(object)) {
		r.member(like, of, of.text+"/"+key, key, object[key], emit)
	}
}

// member takes one member of an object, or all that is below it.
func (r *documentReader) member(like value, of jsonField, place, name string, found any, emit func(value)) {
	if of.below {
		if _, bound := r.pointers[place]; bound || slices.ContainsFunc(r.fields, func(f jsonField) bool { return !f.members && !f.below && f.text == place }) {
			return
		}
		if object, ok := objectIn(found); ok {
			for _, key := range slices.Sorted(maps.Keys(object)) {
				r.member(like, of, place+"/"+key, name+"_"+key, object[key], emit)
			}
			return
		}
	}
	v := like
	v.names = append(like.names[:len(like.names):len(like.names)], name)
	v.take(found, place, of.state)
	emit(v)
}

// objectIn is an object of JSON, or one of CBOR, whose keys may be anything.
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

// readJSON parses a payload. The error gives the byte at which it stopped being JSON.
func readJSON(payload []byte) (root any, err error) {
	return root, inJSON(payload, json.Unmarshal(payload, &root))
}

// readExactJSON keeps numbers as they are written, such as nanoseconds since 1970.
func readExactJSON(payload []byte) (root any, err error) {
	parser := json.NewDecoder(bytes.NewReader(payload))
	parser.UseNumber()
	if err = parser.Decode(&root); err == nil {
		if _, more := parser.Token(); more != io.EOF {
			return nil, fmt.Errorf("payload is not JSON: byte %d: there is more behind its end", parser.InputOffset())
		}
	}
	return root, inJSON(payload, err)
}

func inJSON(payload []byte, err error) error {
	syntax, ok := errors.AsType[*json.SyntaxError](err)
	switch {
	case err == nil:
		return nil
	case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || ok && syntax.Offset == int64(len(payload)) && strings.HasPrefix(syntax.Error(), "unexpected end"):
		return fmt.Errorf("payload is not JSON: it ends after %d bytes", len(payload))
	case ok:
		return fmt.Errorf("payload is not JSON: byte %d: %w", syntax.Offset, err)
	}
	return fmt.Errorf("payload is not JSON: %w", err)
}

// pointer is a checked JSON Pointer.
type pointer struct {
	text   string
	tokens []string
}

func parsePointer(s string) (pointer, error) {
	p, err := jsonpointer.New(s)
	if err != nil {
		return pointer{}, fmt.Errorf("%q is not a JSON Pointer (RFC 6901), such as /water/temp: %w", s, err)
	}
	return pointer{s, p.DecodedTokens()}, nil
}

// in is what a document has there (RFC 6901, 4). The library's own walk goes by reflection,
// which takes longer than parsing.
func (p pointer) in(document any) (any, error) {
	for _, token := range p.tokens {
		ok := false
		switch at := document.(type) {
		case map[string]any:
			document, ok = at[token]
		case map[any]any: // of CBOR
			document, ok = keyed(at, token)
			document = plainValue(document)
		case []any:
			i, err := strconv.Atoi(token)
			if ok = err == nil && i >= 0 && i < len(at) && (token == "0" || token[0] > '0'); ok {
				document = plainValue(at[i])
			}
		}
		if !ok {
			return nil, fmt.Errorf("payload has nothing at %s", p.text)
		}
	}
	return document, nil
}

// take is what a document has there: a number, or the name of a state.
func (v *value) take(found any, place string, state bool) {
	if text, ok := found.(string); ok && state && text != "" {
		v.text = text
		return
	}
	_, v.truth = found.(bool)
	v.raw, v.err = numberIn(found, place)
}

// numberIn is a number, or 1 and 0 for true and false.
func numberIn(v any, place string) (float64, error) {
	switch v := v.(type) {
	case json.Number:
		n, err := v.Float64()
		if err != nil {
			return 0, fmt.Errorf("payload has %s at %s, which is no number that can be kept", clip(v.String()), place)
		}
		return n, nil
	case float64:
		return v, nil
	case int64:
		return float64(v), nil
	case bool:
		if v {
			return 1, nil
		}
		return 0, nil
	}
	return 0, fmt.Errorf("payload has %s at %s where a number should be", describe(v), place)
}

func describe(v any) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case string:
		return fmt.Sprintf("the text %q", clip(v))
	case json.Number:
		return "the number " + clip(v.String())
	case float64, int64:
		return fmt.Sprintf("the number %v", v)
	case bool:
		return fmt.Sprint(v)
	case []byte:
		return fmt.Sprintf("%d bytes", len(v))
	case time.Time:
		return "a time"
	case []any:
		return "an array"
	default:
		return "an object"
	}
}

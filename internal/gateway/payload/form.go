package payload

import (
	"fmt"
	"slices"
	"strings"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/calibrate"
)

// forms are all there are.
var forms = []form{
	{"number", "one number, with or without its unit behind it; true, false", keysOf[numberKeys]},
	{"text", "numbers between separators, by column or by name", keysOf[textKeys]},
	{"json", "JSON (RFC 8259), picked by JSON Pointers (RFC 6901)", keysOf[jsonKeys]},
	{"cbor", "CBOR (RFC 8949), picked in the same way", keysOf[cborKeys]},
	{"msgpack", "MessagePack, picked in the same way", keysOf[msgpackKeys]},
	{
		"xml",
		"XML 1.0, picked in the same way: /weather/temp is the element temp in weather, /weather/@id an attribute, /weather/#text the text beside them; elements of the same name are an array",
		keysOf[xmlKeys],
	},
	{"binary", "bytes in a fixed order: numbers by byte, type and order", keysOf[binaryKeys]},
	{"senml_json", "SenML (RFC 8428) in JSON", keysOf[senmlJSONKeys]},
	{"senml_cbor", "SenML (RFC 8428) in CBOR", keysOf[senmlCBORKeys]},
}

// form is a way payloads are written.
type form struct {
	name, says string
	keys       func() keys
}

// keys are the configuration keys of a form. The struct that they are filled into says what belongs
// into the file.
type keys interface {
	// decoder checks the keys. What values are called and which names the payload binds is
	// told to the fields.
	decoder(at shape.Place, f *fields) decoder
}

func keysOf[K any, P interface {
	*K
	keys
}]() keys {
	return P(new(K))
}

// decoder takes a payload apart and calls emit for each value; its error says why nothing
// of the payload can be used.
type decoder func(payload []byte, emit func(value)) error

// value is one value of a payload.
type value struct {
	field  int      // which of the fields
	names  []string // what the payload binds, as the fields have it
	when   *when    // nil: the payload says none
	raw    float64
	text   string // instead of raw: the name of a state
	truth  bool   // raw was true or false
	unit   string // as the payload says; "": it does not
	err    error  // why it cannot be read
	record int    // of several in one payload, from 1; 0: there is one
	offset bool   // it stands for what the sender's clock is off
	none   bool   // what stands there says that there is no value
}

// noField is the field of what stands for none of them.
const noField = -1

func formNamed(name string) (form, error) {
	known := make([]string, len(forms))
	for i, f := range forms {
		if known[i] = f.name; f.name == name {
			return f, nil
		}
	}
	return form{}, fmt.Errorf("payload form %q is not known; use %s or %s", name,
		strings.Join(known[:len(known)-1], ", "), known[len(known)-1])
}

// Form is a way payloads are written, for people.
type Form struct {
	Name, Says string
	Keys       []shape.Key
}

// Forms returns all there are.
func Forms() (out []Form) {
	for _, f := range forms {
		out = append(out, Form{f.name, f.says, shape.Keys(f.keys())})
	}
	return out
}

// MessageKeys returns the keys of messages in any form.
func MessageKeys() []shape.Key { return shape.Keys(&messageKeys{}) }

// fieldKeys say what a value is called, and how it is calibrated.
type fieldKeys struct {
	Series string   `yaml:"series" is:"required" says:"station/quantity, with {name}s filled in"`
	Scale  *float64 `yaml:"scale" is:"1" says:"value × scale + offset"`
	Offset float64  `yaml:"offset" is:"0" says:""`
	State  bool     `yaml:"state" is:"false" says:"true takes texts as names of states, whose values the series' rule says"`
}

// fields holds the names of a message's values.
type fields struct {
	site     string
	lookups  []lookup // of names that are codes
	topic    []string // names that the topic binds
	payload  []string // and those that the payload does
	ever     []string // those of all fields together
	all      []field
	ownTimes bool // the payload says when it was measured
}

type field struct {
	series    Template
	names     []string // that a payload binds, in the order of a value's
	byPayload bool     // the series' name depends on them
	calibrate calibrate.Curve
	state     bool // texts are names of states
	at        shape.Place
}

// bind tells which names the payload binds, before fields use them.
func (f *fields) bind(at shape.Place, names ...string) {
	for _, name := range names {
		if slices.Contains(f.topic, name) || slices.Contains(f.payload, name) {
			at.Wrong("{%s} is bound twice: the topic or another key binds it too", name)
		}
		f.payload = append(f.payload, name)
		f.ever = append(f.ever, name)
	}
}

// usesNumber reports whether a name is made of the number of a record, an item or a group.
func usesNumber(series string) bool { return strings.Contains(series, "{n}") }

// number binds {n}, if it is wanted and nothing else does.
func (f *fields) number(wanted bool) bool {
	if !wanted || slices.Contains(f.topic, "n") || slices.Contains(f.payload, "n") {
		return false
	}
	f.payload = append(f.payload[:len(f.payload):len(f.payload)], "n")
	f.ever = append(f.ever, "n")
	return true
}

// bound returns all names that topic and payload bind.
func (f *fields) bound() []string { return slices.Concat(f.topic, f.ever) }

// known returns the names that a field can use.
func (f *fields) known(of *field) []string {
	out := slices.Concat(f.topic, of.names)
	for _, l := range f.lookups {
		if slices.Contains(out, l.of) {
			out = append(out, l.binds...)
		}
	}
	return out
}

// byPayload reports whether a text needs what the payload binds.
func (f *fields) byPayload(text string, names []string) bool {
	uses := func(name string) bool { return strings.Contains(text, "{"+name+"}") }
	return slices.ContainsFunc(names, uses) || slices.ContainsFunc(f.lookups, func(l lookup) bool {
		return slices.Contains(names, l.of) && slices.ContainsFunc(l.binds, uses)
	})
}

// add checks a field and returns its number.
func (f *fields) add(at shape.Place, k fieldKeys) int {
	if k.Scale != nil && *k.Scale == 0 {
		at.Key("scale").Wrong("with a scale of 0 every reading would be %v", k.Offset)
	}
	return f.addAs(at.Key("series"), k)
}

func (f *fields) addAs(at shape.Place, k fieldKeys) int {
	out := field{
		calibrate: calibrate.NewLinear(k.Scale, k.Offset),
		names:     slices.Clone(f.payload),
		state:     k.State,
		at:        at,
	}
	if first, rest, _ := strings.Cut(k.Series, "/"); first == f.site && strings.Contains(rest, "/") {
		at.Advise("series are named below the site, so this becomes %s/%s; leave out %s/", f.site, k.Series, first)
	}
	template := shape.Parsed(at, k.Series, func(text string) (Template, error) {
		return ParseTemplate(text, f.known(&out))
	})
	out.series = Template(f.site + "/" + string(template))
	out.byPayload = f.byPayload(k.Series, f.payload)
	f.all = append(f.all, out)
	return len(f.all) - 1
}

// mostValues bounds what one payload can make of itself.
const mostValues = 100_000

func tooMany(records, fields int) error {
	if records*fields > mostValues {
		return fmt.Errorf("payload holds %d records of %d value(s); at most %d values are taken from one message",
			records, fields, mostValues)
	}
	return nil
}

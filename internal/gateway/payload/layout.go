package payload

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"nexocumula/internal/config/shape"
)

// layoutKeys say where values stand in bytes.
type layoutKeys struct {
	ByteOrder string        `yaml:"byte_order" is:"big" says:"or little: which byte of a number comes first; a place can say another"`
	Length    int           `yaml:"length" is:"any" says:"bytes; a payload of another length is rejected whole"`
	Groups    *groupKeys    `yaml:"groups" says:"repeated blocks of bytes with the same values; {n} is a block's number, from 1"`
	Values    []layoutValue `yaml:"values" is:"required" says:"list"`

	missingKeys `yaml:",inline"`
}

type groupKeys struct {
	From   int    `yaml:"from" is:"0" says:"byte at which the first begins"`
	Size   int    `yaml:"size" is:"required" says:"bytes of each"`
	SizeAt string `yaml:"size_at" says:"place, within each block, of its number of bytes beyond size"`
	Count  string `yaml:"count_at" is:"all that there are" says:"place of the number of blocks"`
}

type layoutValue struct {
	At         string `yaml:"at" is:"required" says:"byte and type, such as \"4 int16\" or \"4 uint32 little\". Bytes count from 0, negative ones from the end, and +0 and more from the beginning of a block; 4.3 is byte 4, bit 3 counted from the highest. Types: intN, uintN, floatN, bcdN and magnitudeN with N bits; textN and hexN with N bytes"`
	fieldKeys  `yaml:",inline"`
	layoutBits `yaml:",inline"`
	placedKeys `yaml:",inline"`
}

// layoutBits say what writtenKeys say, without what is of texts.
type layoutBits struct {
	Bits         []int    `yaml:"bits" says:"take only these bits of a whole number, such as [3] or [4, 7], counted from 0 (the lowest); the result is unsigned"`
	NotAvailable []string `yaml:"not_available" says:"numbers (before scale) that mean no value: no reading and no reject, but counted as ignored"`
}

// layout takes bytes apart.
type layout struct {
	length int
	low    bool // the lowest byte of a number comes first
	spots  map[string]*spot
	groups *groups
	clock  *clock // nil: what is around it says when
	names  []string
	fields []layoutField
}

type groups struct {
	from, size    int
	sizeAt, count string // places; "": none
	numbered      bool
}

type layoutField struct {
	spot *spot
	written
	placed
	field   int
	inGroup bool
}

// check adds the values of a layout to the fields. Clock and names are those of the bytes themselves, and nil within
// another payload.
func (k *layoutKeys) check(at shape.Place, f *fields, own func(l *layout)) *layout {
	l := &layout{length: k.Length, spots: map[string]*spot{}}
	switch k.ByteOrder {
	case "", "big":
	case "little":
		l.low = true
	default:
		at.Key("byte_order").Wrong("%q is not known; use big or little", k.ByteOrder)
	}
	if k.Length < 0 || k.Length > 1<<16 {
		at.Key("length").Wrong("%d bytes are not possible; use 1 to 65536, or leave it out", k.Length)
	}
	l.checkGroups(at.Key("groups"), k.Groups)
	if own != nil {
		own(l)
	}
	if len(k.Values) == 0 {
		at.Key("values").Wrong("bytes need values:, a list of {at: byte and type, series: path}")
	}
	outer := f.payload
	numbered := slices.ContainsFunc(k.Values, func(v layoutValue) bool { return usesNumber(v.Series) })
	for i, v := range k.Values {
		at := at.Key("values").Item(i)
		of := layoutField{placed: v.placedKeys.check(at, l.place), inGroup: strings.HasPrefix(v.At, "+")}
		of.spot = l.spots[l.place(at.Key("at"), v.At)]
		if f.payload = outer; of.inGroup && k.Groups != nil && numbered {
			l.groups.numbered = f.number(true)
		}
		of.field = f.add(at, v.fieldKeys)
		f.payload = outer
		of.written = writtenKeys{Bits: v.Bits, NotAvailable: v.NotAvailable}.check(at, readNumber, v.State, true,
			k.NotAvailable...)
		if l.groups != nil && !of.inGroup && slices.ContainsFunc(l.names,
			func(name string) bool { return strings.HasPrefix(name, "+") }) {
			at.Key("at").Wrong("names: are of each group, so a value outside of the groups has none")
		}
		l.fields = append(l.fields, of)
	}
	return l
}

func (l *layout) checkGroups(at shape.Place, k *groupKeys) {
	if k == nil {
		return
	}
	l.groups = &groups{from: k.From, size: k.Size}
	if k.From < 0 {
		at.Key("from").Wrong("groups begin at a byte counted from 0")
	}
	if k.Size < 1 {
		at.Key("size").Wrong("say how many bytes each group has")
		l.groups.size = 1
	}
	if k.SizeAt != "" {
		l.groups.sizeAt = l.place(at.Key("size_at"), k.SizeAt)
	}
	if k.Count != "" {
		l.groups.count = l.place(at.Key("count_at"), k.Count)
	}
}

// place remembers the spot of something that the configuration names.
func (l *layout) place(at shape.Place, text string) string {
	s := shape.Parsed(at, text, func(text string) (spot, error) { return parseSpot(text, l.low) })
	if s.inGroup && l.groups == nil {
		at.Wrong("%q is a byte within a group; say with groups: where they are", text)
	}
	l.spots[text] = &s
	return text
}

// decode takes bytes apart. What is around them, such as names and a time, is like says.
func (l *layout) decode(payload []byte, like value, emit func(value)) error {
	if l.length > 0 && len(payload) != l.length {
		return fmt.Errorf("%d bytes, where %d belong", len(payload), l.length)
	}
	begins, err := l.begins(payload)
	if err != nil {
		return err
	}
	used, instead := false, []string(nil)
	for n, begin := range begins {
		find := func(place string) (any, error) { return l.spots[place].in(payload, begin) }
		v := like
		if l.groups != nil && n > 0 {
			v.record = n
		}
		if err := l.record(&v, n, find); err != nil {
			if n == 0 {
				return err
			}
			emit(value{field: noField, err: err, record: n})
			continue
		}
		if l.clock != nil && v.when != nil {
			l.clock.tell(v.when, v.names, emit)
		}
		for i := range l.fields {
			of := &l.fields[i]
			if of.inGroup != (n > 0) {
				continue
			}
			ok, other := of.applies(find)
			if !ok {
				instead = append(instead, other)
				continue
			}
			used = true
			one := v
			one.field = of.field
			if of.take(&one, payload, begin) {
				of.unit(&one, find)
				emit(one)
			}
		}
	}
	if !used && len(instead) > 0 {
		return idle(instead)
	}
	return nil
}

// take reads a value; there is none where the payload ends before one that is optional.
func (of *layoutField) take(v *value, payload []byte, begin int) (there bool) {
	raw, err := of.spot.bytes(payload, begin)
	if err != nil {
		v.err = err
		return !of.optional
	}
	if n, plain := of.spot.plainNumber(raw); plain { // as most are, and without a detour
		v.err = inPlaceOf(of.spot.text, of.written.number(v, n))
		return true
	}
	found, err := of.spot.read(raw)
	if v.err = err; err == nil {
		of.written.take(v, found, of.spot.text)
	}
	return true
}

// record reads the time and the names of a group, or of what is outside of groups.
func (l *layout) record(v *value, n int, find func(string) (any, error)) (err error) {
	perGroup := l.groups != nil && (l.clock != nil && strings.HasPrefix(l.clock.time, "+") ||
		slices.ContainsFunc(l.names, func(name string) bool { return strings.HasPrefix(name, "+") }))
	if perGroup && n == 0 {
		return nil
	}
	if l.clock != nil {
		if v.when, err = l.clock.read(find); err != nil {
			return err
		}
	}
	names, err := boundIn(l.names, find)
	if err != nil {
		return err
	}
	v.names = append(v.names[:len(v.names):len(v.names)], names...)
	if l.groups != nil && l.groups.numbered && n > 0 {
		v.names = append(v.names, strconv.Itoa(n))
	}
	return nil
}

// atBegin is where a payload begins that has no groups. It is only read.
var atBegin = []int{0}

// begins returns where groups begin, behind a 0 for what is outside of them.
func (l *layout) begins(payload []byte) (out []int, err error) {
	if l.groups == nil {
		return atBegin, nil
	}
	out = []int{0}
	g, count := l.groups, -1
	if g.count != "" {
		found, err := l.spots[g.count].in(payload, 0)
		if err != nil {
			return nil, fmt.Errorf("how many groups there are: %w", err)
		}
		n, err := numberIn(found, g.count)
		if err != nil {
			return nil, err
		}
		count = int(n)
	}
	at := g.from
	for count != len(out)-1 && (count >= 0 || at < len(payload)) {
		size := g.size
		if g.sizeAt != "" {
			found, err := l.spots[g.sizeAt].in(payload, at)
			if err != nil {
				return nil, fmt.Errorf("group %d: %w", len(out), err)
			}
			more, err := numberIn(found, g.sizeAt)
			if err != nil || more < 0 {
				return nil, fmt.Errorf("group %d: %s at %s where a number of bytes should be", len(out),
					describe(found), g.sizeAt)
			}
			size += int(more)
		}
		if at+size > len(payload) || size < 1 {
			return nil, fmt.Errorf("group %d of %d bytes begins at byte %d, and the payload ends after %d", len(out),
				size, at, len(payload))
		}
		if len(out) > mostValues {
			return nil, tooMany(len(out), 1)
		}
		out, at = append(out, at), at+size
	}
	return out, nil
}

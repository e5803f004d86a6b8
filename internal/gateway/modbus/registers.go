package modbus

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/calibrate"
	"nexocumula/internal/core/series"
)

type registerKeys struct {
	Table         string    `yaml:"table" is:"required" says:"coil, discrete_input, holding or input"`
	Address       *int      `yaml:"address" is:"required" says:"counted from 0, as on the wire: a manual's 40001 is address 0 of holding"`
	Number        string    `yaml:"number" says:"instead of table and address: the number in a manual that counts from 1 behind the number of the table: 00001 coil, 10001 discrete_input, 30001 input, 40001 holding, or with six digits 400001"`
	Type          string    `yaml:"type" is:"uint16" says:"or int16, uint32, int32, uint48, int48, uint64, int64 (beyond 2^53 without the lowest bits), float32, float64, bcd16, bcd32, bcd64, magnitude16, magnitude32 (sign and magnitude), bool, text; of coils and discrete inputs bool"`
	Length        int       `yaml:"length" says:"registers that a text takes, two letters each; it must be one of the names of its state series"`
	WordOrder     string    `yaml:"word_order" says:"as of the device"`
	ByteOrder     string    `yaml:"byte_order" says:"as of the device"`
	Bits          []int     `yaml:"bits" says:"only these of it, such as [3] or [4, 7], counted from 0, the lowest; then as an unsigned number"`
	NotAvailable  []float64 `yaml:"not_available" says:"values, before scale, that stand for none: no reading, and no reject"`
	Unit          *int      `yaml:"unit" says:"as of the device"`
	Series        string    `yaml:"series" is:"required" says:"station/quantity, in a description the quantity; {n} is the number of a value of several"`
	Scale         *float64  `yaml:"scale" is:"1" says:"value × scale + offset"`
	Offset        float64   `yaml:"offset" is:"0" says:""`
	ScaleRegister *int      `yaml:"scale_register" says:"address, in the same table, of an int16 that scales too: the value is multiplied by ten to its power; 0x8000 stands for no value, as in SunSpec"`
	ScaleFactor   *int      `yaml:"factor_register" says:"or of an int16 that it is multiplied by"`
	Count         int       `yaml:"count" is:"1" says:"values of this kind in a row, whose series' names have {n}"`
	Step          int       `yaml:"step" is:"what one takes" says:"registers from one of them to the next"`
	NumberFrom    *int      `yaml:"number_from" is:"1" says:"{n} of the first"`
	Group         string    `yaml:"group" is:"every" says:"name of a group, for another schedule than the line's"`
}

// table is one of Modbus's four.
type table string

const (
	coil     table = "coil"
	discrete table = "discrete_input"
	holding  table = "holding"
	input    table = "input"
)

// The most one request may ask for (Modbus Application Protocol 1.1b3, 6.1 to 6.4).
const (
	mostRegisters = 125
	mostBits      = 2000
)

func (t table) isBits() bool { return t == coil || t == discrete }

func (t table) most() int {
	if t.isBits() {
		return mostBits
	}
	return mostRegisters
}

// register is one value of a device.
type register struct {
	unit      uint8
	table     table
	address   uint16 // counted from 0, as on the wire
	as        valueType
	order     order
	bits      []int // lowest and highest; nil: all
	none      []float64
	series    series.Path
	calibrate calibrate.Linear
	scaledBy  *scaling
	group     string
	where     string // for people
	at        shape.Place
}

// scaling is a register that says how another is scaled.
type scaling struct {
	address uint16
	power   bool // of ten; else a factor
}

func (s scaling) apply(v float64, by int16) float64 {
	if !s.power {
		return v * float64(by)
	}
	if by < 0 {
		return v / math.Pow10(-int(by)) // exact, as 0.001 is not
	}
	return v * math.Pow10(int(by))
}

// stands is the place of registers that are checked.
type stands struct {
	at     shape.Place
	above  string // of their series: site, or site and station
	unit   int
	device deviceKeys
}

// registers returns the registers of one entry: one, or several of a kind.
func (raw registerKeys) registers(in stands) (out []register) {
	at := in.at
	count := at.Key("count").Count(raw.Count, 1, 1, maxRegisters, "values are")
	numbered := strings.Contains(raw.Series, "{n}")
	if (count > 1) != numbered {
		at.Key("series").Wrong("several values in a row have {n} in the name of their series, and others have not: count is %d, and series %q",
			count, raw.Series)
	}
	first := raw.check(in)
	step := at.Key("step").Count(raw.Step, max(1, first.as.words), max(1, first.as.words), 1<<15, "registers are")
	if last := int(first.address) + (count-1)*step; last > 1<<16-first.as.words {
		at.Key("count").Wrong("%d values from address %d on, %d apart, end at %d; there are addresses 0 to 65535",
			count, first.address, step, last)
		return nil
	}
	number := 1
	if raw.NumberFrom != nil {
		number = *raw.NumberFrom
	}
	for i := range count {
		one := first
		one.address += uint16(i * step)
		name := in.above + "/" + strings.ReplaceAll(raw.Series, "{n}", strconv.Itoa(number+i))
		one.series = shape.Parsed(at.Key("series"), name, series.ParsePath)
		if site, rest, _ := strings.Cut(name, "/"); i == 0 && strings.HasPrefix(rest, site+"/") &&
			strings.Count(rest, "/") > 1 {
			at.Key("series").Advise("series are named below the site, so this becomes %s; leave out %s/", name, site)
		}
		out = append(out, one)
	}
	return out
}

func (raw registerKeys) check(in stands) register {
	at := in.at
	if raw.Unit != nil {
		in.unit = *raw.Unit
	}
	raw.number(at)
	if raw.Scale != nil && *raw.Scale == 0 {
		at.Key("scale").Wrong("with a scale of 0 every reading would be %v", raw.Offset)
	}
	if in.unit < 0 || in.unit > 255 {
		at.Key("unit").Wrong("unit id %d is not possible; use 0 to 255", in.unit)
	}
	out := register{
		unit:  uint8(in.unit),
		table: table(raw.Table),
		order: order{
			lowFirst(at.Key("word_order"), raw.WordOrder, in.device.WordOrder),
			lowFirst(at.Key("byte_order"), raw.ByteOrder, in.device.ByteOrder),
		},
		calibrate: calibrate.NewLinear(raw.Scale, raw.Offset),
		none:      raw.NotAvailable,
		group:     raw.Group,
	}
	switch out.table {
	case coil, discrete:
		if raw.Type != "" && raw.Type != "bool" {
			at.Key("type").Wrong("a %s is one bit; its type is bool", out.table)
		}
		raw.Type = "bool"
	case holding, input:
		if raw.Type == "" {
			raw.Type = "uint16"
		}
	default:
		at.Key("table").Wrong("table %q is not known; use coil, discrete_input, holding or input", raw.Table)
		raw.Type = "bool"
	}
	out.as = shape.Parsed(at.Key("type"), raw.Type, typeNamed)
	out.as.words = raw.words(at, out.as)
	out.bits = raw.bitRange(at.Key("bits"), out.as)
	out.scaledBy = raw.scaling(at, out)
	out.address = address16(at.Key("address"), raw.Address, out.as)
	if number, like := manualNumber(out.table, int(out.address)); like && raw.Number == "" {
		at.Key("address").Advise("addresses are counted from 0. If %d is what a manual calls the register, write number: \"%s\" instead, which is address %d of %s",
			out.address, number, int(out.address)%10_000-1, out.table)
	}
	out.at = at
	return out
}

func (raw registerKeys) words(at shape.Place, as valueType) int {
	if as.text {
		if raw.Scale != nil || raw.Offset != 0 || raw.Bits != nil || raw.NotAvailable != nil {
			at.Wrong("a text has no scale, offset, bits or not_available")
		}
		if raw.Length == 0 {
			at.Key("length").Wrong("say how many registers the text takes")
		}
		return at.Key("length").Count(raw.Length, 1, 1, mostRegisters, "registers are")
	}
	if raw.Length != 0 {
		at.Key("length").Wrong("length is of a text; a %s takes %d register(s)", as.name, as.words)
	}
	return as.words
}

func (raw registerKeys) scaling(at shape.Place, of register) *scaling {
	key, address := "scale_register", raw.ScaleRegister
	if raw.ScaleFactor != nil {
		key, address = "factor_register", raw.ScaleFactor
	}
	switch {
	case address == nil:
		return nil
	case raw.ScaleRegister != nil && raw.ScaleFactor != nil:
		at.Key(key).Wrong("give scale_register or factor_register, not both")
	case of.table.isBits() || of.as.text:
		at.Key(key).Wrong("a %s is not scaled", of.as.name)
	}
	return &scaling{address16(at.Key(key), address, types[1]), raw.ScaleRegister != nil}
}

func address16(at shape.Place, address *int, as valueType) uint16 {
	switch most := 1<<16 - as.words; {
	case address == nil:
		at.Wrong("say at which address, counted from 0 as on the wire (a manual's 40001 is address 0 of holding)")
		return 0
	case *address < 0 || *address > most:
		at.Wrong("address %d is not possible for a %s; use 0 to %d", *address, as.name, most)
		return 0
	}
	return uint16(*address)
}

func lowFirst(at shape.Place, own, device string) bool {
	if own == "" {
		own = device
	}
	if own != "" && own != "high_first" && own != "low_first" {
		at.Wrong("order %q is not known; use high_first or low_first", own)
	}
	return own == "low_first"
}

func (raw registerKeys) bitRange(at shape.Place, as valueType) []int {
	if raw.Bits == nil {
		return nil
	}
	low, high := 0, -1
	if n := len(raw.Bits); n == 1 || n == 2 {
		low, high = raw.Bits[0], raw.Bits[n-1]
	}
	if low < 0 || high < low || high >= 16*as.words || raw.Type == "bool" || as.text {
		at.Wrong("%v are no bits of a %s; write one such as [3], or the lowest and the highest such as [4, 7], of 0 to %d",
			raw.Bits, raw.Type, 16*as.words-1)
		return nil
	}
	return []int{low, high}
}

// number decodes registers, before scaling; ok is false where they stand for no value.
func (r register) number(words []uint16) (v float64, ok bool, err error) {
	bits := r.order.bits(words)
	if r.bits != nil {
		v = float64(bits << (63 - r.bits[1]) >> (63 - r.bits[1] + r.bits[0]))
	} else if v, err = r.as.read(bits, r.as.words); err != nil {
		return 0, false, err
	}
	return v, !slices.ContainsFunc(r.none,
		func(none float64) bool { return v == none || math.IsNaN(v) && math.IsNaN(none) }), nil
}

// value decodes registers and scales the result.
func (r register) value(words []uint16, scale int16) (v float64, ok bool, err error) {
	v, ok, err = r.number(words)
	if err != nil || !ok {
		return 0, false, err
	}
	if r.scaledBy != nil {
		if r.scaledBy.power && scale == math.MinInt16 {
			return 0, false, nil // SunSpec: a scale factor of 0x8000 says that the value is not available
		}
		v = r.scaledBy.apply(v, scale)
	}
	return r.calibrate.Apply(v), true, nil
}

// letters returns the text in registers, up to its end.
func (r register) letters(words []uint16) (string, error) {
	var out []byte
	for _, w := range words {
		if r.order.lowByteFirst {
			w = w<<8 | w>>8
		}
		out = append(out, byte(w>>8), byte(w))
	}
	text, _, _ := strings.Cut(string(out), "\x00")
	for _, c := range []byte(text) {
		if c < ' ' || c > '~' {
			return "", fmt.Errorf("%q is no text of printable letters; is it another type, or byte order?", text)
		}
	}
	return strings.TrimSpace(text), nil
}

func (r *register) place() string { return fmt.Sprintf("unit %d, %s %d", r.unit, r.table, r.address) }

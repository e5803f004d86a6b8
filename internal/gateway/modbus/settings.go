package modbus

import (
	"fmt"
	"log/slog"
	"math"
	"net/url"
	"time"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/calibrate"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
)

// Kind polls the registers of devices.
var Kind = source.Kind("modbus", "a device on Modbus TCP, or several units behind one address; how much a device gives at once, and which registers it does not have, is learned, and a unit that does not answer is asked more and more rarely, up to once a minute", check)

// deviceKeys are a device, or several units behind one address.
type deviceKeys struct {
	Address   string         `yaml:"address" is:"required" says:"tcp://host:port"`
	Every     string         `yaml:"every" is:"10s" says:"how often to poll"`
	Timeout   string         `yaml:"timeout" is:"1s" says:"how long to wait for an answer"`
	Unit      int            `yaml:"unit" is:"1" says:"unit id of registers that say none"`
	WordOrder string         `yaml:"word_order" is:"high_first" says:"or low_first: the words of wide values, where a register says nothing else"`
	ByteOrder string         `yaml:"byte_order" is:"high_first" says:"or low_first: the bytes of a word"`
	Registers []registerKeys `yaml:"registers" is:"required" says:"list; neighbours are read together, holes are never touched"`
}

type registerKeys struct {
	Table        string    `yaml:"table" is:"required" says:"coil, discrete_input, holding or input"`
	Address      *int      `yaml:"address" is:"required" says:"counted from 0, as on the wire: a manual's 40001 is address 0 of holding"`
	Type         string    `yaml:"type" is:"uint16" says:"or int16, uint32, int32, uint48, int48, uint64, int64 (beyond 2^53 without the lowest bits), float32, float64, bcd16, bcd32, bcd64, magnitude16, magnitude32 (sign and magnitude), bool; of coils and discrete inputs bool"`
	WordOrder    string    `yaml:"word_order" says:"as of the device"`
	ByteOrder    string    `yaml:"byte_order" says:"as of the device"`
	Bits         []int     `yaml:"bits" says:"only these of it, such as [3] or [4, 7], counted from 0, the lowest; then as an unsigned number"`
	NotAvailable []float64 `yaml:"not_available" says:"values, before scale, that stand for none: no reading, and no reject"`
	Unit         *int      `yaml:"unit" says:"as of the device"`
	Series       string    `yaml:"series" is:"required" says:"station/quantity"`
	Scale        *float64  `yaml:"scale" is:"1" says:"value × scale + offset"`
	Offset       float64   `yaml:"offset" is:"0" says:""`
}

// settings of a device, checked.
type settings struct {
	address   string
	every     time.Duration
	timeout   time.Duration
	registers []register
}

// table is one of Modbus's four.
type table string

const (
	coil     table = "coil"
	discrete table = "discrete_input"
	holding  table = "holding"
	input    table = "input"
)

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
}

const maxRegisters = 4096

func (s settings) Open(name string, into *pipeline.Pipeline, log *slog.Logger) source.Source {
	return open(name, s, into, log)
}

func check(at shape.Place, site string, raw deviceKeys) source.Settings {
	u, err := url.Parse(raw.Address)
	if err != nil || u.Scheme != "tcp" || u.Hostname() == "" || u.Port() == "" {
		at.Key("address").Wrong("%q is not the address of a device; write tcp://host:port", raw.Address)
	}
	out := settings{
		address: raw.Address,
		every:   at.Key("every").Duration(raw.Every, 10*time.Second),
		timeout: at.Key("timeout").Duration(raw.Timeout, time.Second),
	}
	if raw.Unit == 0 {
		raw.Unit = 1
	}
	if len(raw.Registers) == 0 || len(raw.Registers) > maxRegisters {
		at.Key("registers").Wrong("%d registers; list 1 to %d", len(raw.Registers), maxRegisters)
	}
	for i, r := range raw.Registers {
		out.registers = append(out.registers, r.check(at.Key("registers").Item(i), site, raw))
	}
	return out
}

func (raw registerKeys) check(at shape.Place, site string, device deviceKeys) register {
	if raw.Unit == nil {
		raw.Unit = &device.Unit
	}
	if *raw.Unit < 0 || *raw.Unit > 255 {
		at.Key("unit").Wrong("unit id %d is not possible; use 0 to 255", *raw.Unit)
	}
	out := register{
		unit:      uint8(*raw.Unit),
		table:     table(raw.Table),
		order:     order{lowFirst(at.Key("word_order"), raw.WordOrder, device.WordOrder), lowFirst(at.Key("byte_order"), raw.ByteOrder, device.ByteOrder)},
		series:    shape.Parsed(at.Key("series"), site+"/"+raw.Series, series.ParsePath),
		calibrate: calibrate.NewLinear(raw.Scale, raw.Offset),
		none:      raw.NotAvailable,
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
	out.bits = raw.bitRange(at.Key("bits"), out.as)
	switch most := 1<<16 - out.as.words; {
	case raw.Address == nil:
		at.Key("address").Wrong("say at which address, counted from 0 as on the wire (a manual's 40001 is address 0 of holding)")
	case *raw.Address < 0 || *raw.Address > most:
		at.Key("address").Wrong("address %d is not possible for a %s; use 0 to %d", *raw.Address, out.as.name, most)
	default:
		out.address = uint16(*raw.Address)
	}
	return out
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
	if low < 0 || high < low || high >= 16*as.words || raw.Type == "bool" {
		at.Wrong("%v are no bits of a %s; write one such as [3], or the lowest and the highest such as [4, 7], of 0 to %d", raw.Bits, raw.Type, 16*as.words-1)
		return nil
	}
	return []int{low, high}
}

// value is what registers say; ok is false where they say that there is none.
func (r register) value(words []uint16) (v float64, ok bool, err error) {
	if len(words) != r.as.words {
		return 0, false, fmt.Errorf("a %s takes %d register(s), not %d", r.as.name, r.as.words, len(words))
	}
	bits := r.order.bits(words)
	if r.bits != nil {
		v = float64(bits << (63 - r.bits[1]) >> (63 - r.bits[1] + r.bits[0]))
	} else if v, err = r.as.read(bits, r.as.words); err != nil {
		return 0, false, err
	}
	for _, none := range r.none {
		if v == none || math.IsNaN(v) && math.IsNaN(none) {
			return 0, false, nil
		}
	}
	return r.calibrate.Apply(v), true, nil
}

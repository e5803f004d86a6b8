package engine

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// A journal row is one Append. It is written in full at each commit and read only after
// a crash, so it is small and quick rather than easy to search. Integers are varints as
// in encoding/binary, signed ones zigzag.
//
//	1 byte        version, 1
//	4 bytes       CRC-32C of what follows, little-endian
//	1 byte        exponent of the unit of times, which are 10^e ns
//	entry after entry:
//	uvarint       series, times 4, plus what follows: 0 readings, 1 summaries, 2 sketches
//	uvarint       of summaries: the tier, ns; columns
//	uvarint       rows
//	per row:      varint time, in units, from the row before, at first from 0
//	              the columns' values
//
// Of sketches only the starts are here; they stand in a table of their own. A value is
// 1 byte form f, and then:
//
//	0 to 15       varint m: the value is m / 10^f, correctly rounded
//	16 to 31      varint m: the same with f-16, once more rounded to 32 bits
//	32 to 47      varint m: the value is m · 10^(f-32)
//	255           8 bytes, little-endian: its bits
const (
	journalVersion = 1
	journalHead    = 6

	inReadings  = 0
	inSummaries = 1
	inSketches  = 2

	formNarrow = 16
	formLarge  = 32
	formBits   = 255

	mostExponent = 15
	mostColumns  = 64
)

var errJournal = errors.New("journal row ends early or makes no sense")

// encodeJournal returns nil when there is nothing to write.
func encodeJournal(entries []Entry, sketches []Sketch) ([]byte, error) {
	e := journalEncoder{unit: timeUnit(entries, sketches)}
	e.out = append(make([]byte, 0, 64), journalVersion, 0, 0, 0, 0, e.unit)
	e.scale = int64(powers[e.unit])
	for _, entry := range entries {
		if err := e.entry(entry); err != nil {
			return nil, fmt.Errorf("writing to the store: series %d: %w", entry.Series, err)
		}
	}
	for i := 0; i < len(sketches); {
		k := i
		for k < len(sketches) && sketches[k].Series == sketches[i].Series {
			k++
		}
		e.uvarint(uint64(sketches[i].Series)<<2 | inSketches)
		e.uvarint(uint64(k - i))
		for ; i < k; i++ {
			e.time(sketches[i].Start)
		}
	}
	if len(e.out) == journalHead {
		return nil, nil
	}
	binary.LittleEndian.PutUint32(e.out[1:], sqlite.Sum(e.out[5:]))
	return e.out, nil
}

type journalEncoder struct {
	out    []byte
	unit   byte
	scale  int64
	before int64
}

func (e *journalEncoder) uvarint(v uint64) { e.out = binary.AppendUvarint(e.out, v) }

func (e *journalEncoder) time(t int64) {
	e.out = binary.AppendVarint(e.out, t/e.scale-e.before)
	e.before = t / e.scale
}

func (e *journalEncoder) entry(entry Entry) error {
	b := entry.Rows
	if b.Len() == 0 {
		return nil
	}
	if err := b.Check(); err != nil {
		return err
	}
	if !b.Ordered() {
		return errors.New("times do not strictly ascend")
	}
	if entry.Tier == series.Readings {
		e.uvarint(uint64(entry.Series)<<2 | inReadings)
	} else {
		e.uvarint(uint64(entry.Series)<<2 | inSummaries)
		e.uvarint(uint64(entry.Tier))
		e.uvarint(uint64(len(b.Cols)))
	}
	e.uvarint(uint64(b.Len()))
	for i, t := range b.Times {
		e.time(t)
		for _, col := range b.Cols {
			e.out = appendValue(e.out, col[i])
		}
	}
	return nil
}

// timeUnit returns the exponent of the largest power of ten, up to a second, that divides
// all times.
func timeUnit(entries []Entry, sketches []Sketch) byte {
	unit := byte(9)
	narrow := func(t int64) {
		for unit > 0 && t%int64(powers[unit]) != 0 {
			unit--
		}
	}
	for _, e := range entries {
		for _, t := range e.Rows.Times {
			narrow(t)
		}
	}
	for _, s := range sketches {
		narrow(s.Start)
	}
	return unit
}

var powers = [mostExponent + 1]float64{
	1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15,
}

// appendValue writes a value, as a decimal where that gives back its exact bits.
func appendValue(out []byte, v float64) []byte {
	const exact = 1 << 53
	if v == math.Trunc(v) && math.Abs(v) < exact && !(v == 0 && math.Signbit(v)) {
		m, e := int64(v), byte(0)
		for m != 0 && m%10 == 0 && e < mostExponent {
			m, e = m/10, e+1
		}
		return binary.AppendVarint(append(out, formLarge+e), m)
	}
	for e := 1; e <= 6; e++ {
		m := math.RoundToEven(v * powers[e])
		if math.Abs(m) >= exact {
			break
		}
		if back := m / powers[e]; back == v && m != 0 {
			return binary.AppendVarint(append(out, byte(e)), int64(m))
		} else if m != 0 && float64(float32(back)) == v {
			return binary.AppendVarint(append(out, formNarrow+byte(e)), int64(m))
		}
	}
	return binary.LittleEndian.AppendUint64(append(out, formBits), math.Float64bits(v))
}

// decodeJournal reads one row; marked are the starts of sketches that were written.
func decodeJournal(payload []byte) (entries []Entry, marked []Sketch, err error) {
	if len(payload) < journalHead || payload[0] != journalVersion || payload[5] > 9 {
		return nil, nil, fmt.Errorf("%w: it begins with % x", errJournal, payload[:min(len(payload), journalHead)])
	}
	if binary.LittleEndian.Uint32(payload[1:]) != sqlite.Sum(payload[5:]) {
		return nil, nil, errors.New("journal row does not match its checksum")
	}
	d := journalDecoder{left: payload[journalHead:], scale: int64(powers[payload[5]])}
	for len(d.left) > 0 && d.err == nil {
		head := d.uvarint()
		id := uint32(head >> 2)
		switch head & 3 {
		case inReadings:
			entries = append(entries, d.rows(Entry{Series: id}, 1))
		case inSummaries:
			tier := series.Tier(d.uvarint())
			entries = append(entries, d.rows(Entry{Series: id, Tier: tier}, d.uvarint()))
		case inSketches:
			for n := d.uvarint(); n > 0 && d.err == nil; n-- {
				marked = append(marked, Sketch{Series: id, Start: d.time()})
			}
		default:
			d.err = errJournal
		}
	}
	return entries, marked, d.err
}

type journalDecoder struct {
	left   []byte
	scale  int64
	before int64
	err    error
}

func (d *journalDecoder) took(n int) {
	if n <= 0 || n > len(d.left) {
		d.err, d.left = errJournal, nil
		return
	}
	d.left = d.left[n:]
}

func (d *journalDecoder) uvarint() uint64 {
	v, n := binary.Uvarint(d.left)
	d.took(n)
	return v
}

func (d *journalDecoder) varint() int64 {
	v, n := binary.Varint(d.left)
	d.took(n)
	return v
}

func (d *journalDecoder) time() int64 {
	d.before += d.varint()
	return d.before * d.scale
}

func (d *journalDecoder) rows(e Entry, columns uint64) Entry {
	rows := d.uvarint()
	if columns > mostColumns || rows > uint64(len(d.left)) || rows == 0 {
		d.err, d.left = errJournal, nil
		return e
	}
	e.Rows = column.New(int(columns), int(rows))
	for range rows {
		e.Rows.Times = append(e.Rows.Times, d.time())
		for c := range e.Rows.Cols {
			e.Rows.Cols[c] = append(e.Rows.Cols[c], d.value())
		}
	}
	if d.err == nil && !e.Rows.Ordered() {
		d.err = errJournal
	}
	return e
}

func (d *journalDecoder) value() float64 {
	if len(d.left) == 0 {
		d.err = errJournal
		return 0
	}
	form := d.left[0]
	d.took(1)
	switch {
	case form <= mostExponent:
		return float64(d.varint()) / powers[form]
	case form >= formNarrow && form <= formNarrow+mostExponent:
		return float64(float32(float64(d.varint()) / powers[form-formNarrow]))
	case form >= formLarge && form <= formLarge+mostExponent:
		return float64(d.varint()) * powers[form-formLarge]
	case form == formBits && len(d.left) >= 8:
		v := math.Float64frombits(binary.LittleEndian.Uint64(d.left))
		d.took(8)
		return v
	}
	d.err, d.left = errJournal, nil
	return 0
}

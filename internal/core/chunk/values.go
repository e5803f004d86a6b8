package chunk

import (
	"encoding/binary"
	"fmt"
	"math"
	"slices"
)

// mostDigits is the largest exponent tried; a sensor that resolves more is not one.
const mostDigits = 9

var powers = func() (p [mostDigits + 1]float64) {
	for i := range p {
		p[i] = math.Pow10(i)
	}
	return p
}()

// appendValues writes one column in the form that suits it.
func appendValues(out []byte, col []float64, bits func([]byte, []float64) []byte) []byte {
	if constant(col) {
		return binary.LittleEndian.AppendUint64(append(out, valuesConstant), math.Float64bits(col[0]))
	}
	var small []byte
	if r, ok := runsOf(col); ok {
		small = r.encode(nil)
	}
	var other []byte
	if d, ok := decimalsOf(col, asInteger); ok {
		other = d.encode([]byte{valuesDecimal}, col)
	} else if d, ok := decimalsOf(col, asNarrow); ok {
		other = d.encode([]byte{valuesNarrow}, col)
	} else if small == nil {
		other = bits(nil, col)
	}
	if other == nil || small != nil && len(small) <= len(other) {
		return append(out, small...)
	}
	return append(out, other...)
}

// decimals is a column as integers over a power of ten.
type decimals struct {
	exponent int
	integers []int64
	strange  []int // rows that are no such decimal: NaN, infinities, -0, more digits
}

// decimalsOf finds the smallest exponent with which nearly all values are exact: the
// value is the float64 nearest to integer / 10^exponent. Division is correctly rounded,
// so a value that came from decimal text comes back bit for bit. integer says which
// integer a value is, and whether it comes back.
func decimalsOf(col []float64, integer func(v, scale float64) (int64, bool)) (decimals, bool) {
	few := len(col) / 16
	best, found := decimals{}, false
	for e := 0; e <= mostDigits; e++ {
		d := decimals{exponent: e, integers: make([]int64, len(col))}
		var before int64
		for i, v := range col {
			n, ok := integer(v, powers[e])
			if !ok {
				d.strange = append(d.strange, i)
				if len(d.strange) > few {
					break
				}
				n = before // costs nothing as a difference
			}
			d.integers[i], before = n, n
		}
		if len(d.strange) <= few && (!found || len(d.strange) < len(best.strange)) {
			best, found = d, true
		}
		if found && len(best.strange) == 0 {
			break
		}
	}
	return best, found
}

func asInteger(v, scale float64) (int64, bool) {
	n := math.Round(v * scale)
	if !(math.Abs(n) < 1<<53) { // NaN too
		return 0, false
	}
	return int64(n), math.Float64bits(float64(int64(n))/scale) == math.Float64bits(v)
}

// asNarrow is asInteger for values that came as a float32, as registers of devices often
// are: there they were the nearest to a decimal.
func asNarrow(v, scale float64) (int64, bool) {
	n := math.Round(v * scale)
	if !(math.Abs(n) < 1<<24*100) { // a float32 has no more digits
		return 0, false
	}
	return int64(n), math.Float64bits(float64(float32(float64(int64(n))/scale))) == math.Float64bits(v)
}

func (d decimals) encode(out []byte, col []float64) []byte {
	low, high := slices.Min(d.integers), slices.Max(d.integers)
	out = binary.AppendVarint(append(out, byte(d.exponent)), low)
	out = binary.AppendUvarint(out, uint64(high-low))
	out = binary.AppendUvarint(out, uint64(len(d.strange)))
	before := 0
	for _, row := range d.strange {
		out = binary.AppendUvarint(out, uint64(row-before))
		out = binary.LittleEndian.AppendUint64(out, math.Float64bits(col[row]))
		before = row
	}
	return d.appendIntegers(out)
}

// appendIntegers writes each block as it is or as differences, whatever is smaller.
func (d decimals) appendIntegers(out []byte) []byte {
	var last int64
	for at := 0; at < len(d.integers); at += blockRows {
		block := d.integers[at:min(at+blockRows, len(d.integers))]
		differences := make([]int64, len(block))
		for i, n := range block {
			differences[i], last = n-last, n
		}
		plain, diff := appendBlock(nil, block, 0), appendBlock(nil, differences, ofDifferences)
		if len(plain) <= len(diff) {
			out = append(out, plain...)
		} else {
			out = append(out, diff...)
		}
	}
	return out
}

// appendBits writes the bits as byte planes: the first ones, sign and exponent, are
// much alike from row to row.
func appendBits(out []byte, col []float64) []byte {
	out = append(out, valuesBits)
	planes := make([]byte, 8*len(col))
	for i, v := range col {
		b := math.Float64bits(v)
		for p := range 8 {
			planes[p*len(col)+i] = byte(b >> (56 - 8*p))
		}
	}
	return compressor.EncodeAll(planes, out)
}

// appendRaw writes the bits as they are.
func appendRaw(out []byte, col []float64) []byte { return appendFloats(append(out, valuesRaw), col) }

// values reads one column.
func (r *reader) values(rows int) []float64 {
	form := r.take(1)
	if r.err != nil {
		return nil
	}
	switch form[0] {
	case valuesConstant:
		return r.constant(rows)
	case valuesDecimal:
		return r.decimals(rows, false)
	case valuesNarrow:
		return r.decimals(rows, true)
	case valuesBits:
		return r.bits(rows)
	case valuesRuns:
		return r.runs(rows)
	case valuesRaw:
		return r.floats(rows)
	}
	r.err = fmt.Errorf("unknown form %d of values", form[0])
	return nil
}

func (r *reader) constant(rows int) []float64 {
	raw := r.take(8)
	if r.err != nil {
		return nil
	}
	col := r.room(rows)
	v := math.Float64frombits(binary.LittleEndian.Uint64(raw))
	for i := range col {
		col[i] = v
	}
	return col
}

func (r *reader) decimals(rows int, narrow bool) []float64 {
	exponent, low, span, strange := r.take(1), r.varint(), r.uvarint(), r.uvarint()
	if r.err == nil && (exponent[0] > mostDigits || span > 1<<55 || strange > uint64(rows)) {
		r.err = fmt.Errorf("decimals have exponent %d, a span of %d and %d strange values in %d rows", exponent[0],
			span, strange, rows)
	}
	if r.err != nil {
		return nil
	}
	given := r.rest // the strange values are patched in at the end
	for range strange {
		r.uvarint()
		r.take(8)
	}
	col := r.room(rows)
	var table [lookups]float64
	q := quotients{scale: powers[exponent[0]], low: low, span: span, narrow: narrow, table: &table}
	q.prepare(rows)
	var block [blockRows]int64
	var last int64
	for at := 0; at < rows && r.err == nil; at += blockRows {
		v := block[:min(blockRows, rows-at)]
		base, width, exceptions := r.blockHead()
		r.block(v, base, width&^ofDifferences, exceptions)
		var ok bool
		if last, ok = q.of(col[at:][:len(v)], v, last, width&ofDifferences != 0); !ok && r.err == nil {
			r.err = fmt.Errorf("an integer is not within %d and %d more", low, span)
		}
	}
	patches := reader{rest: given, err: r.err}
	row := uint64(0)
	for range strange {
		row += patches.uvarint()
		raw := patches.take(8)
		if patches.err == nil && row >= uint64(rows) {
			patches.err = fmt.Errorf("a strange value of %d rows is at %d", rows, row)
		}
		if patches.err != nil {
			break
		}
		col[row] = math.Float64frombits(binary.LittleEndian.Uint64(raw))
	}
	r.err = patches.err
	return col
}

// lookups is up to how many different quotients are worth a table.
const lookups = 1024

// quotients turns integers into values. Sensors have few different ones in one chunk:
// then each is divided once, and looked up after that.
type quotients struct {
	scale  float64
	low    int64
	span   uint64
	narrow bool
	looked bool
	table  *[lookups]float64
}

func (q *quotients) prepare(rows int) {
	if q.looked = q.span < lookups && q.span < uint64(rows)/4; q.looked {
		for i := range q.span + 1 {
			q.table[i] = q.divide(q.low + int64(i))
		}
	}
}

func (q *quotients) divide(n int64) float64 {
	v := float64(n) / q.scale
	if q.narrow {
		return float64(float32(v))
	}
	return v
}

// of writes the values of integers, or of the sums of differences after last; it returns
// the last integer, and whether all are where they should be. Hot.
func (q *quotients) of(out []float64, v []int64, last int64, differences bool) (int64, bool) {
	var furthest uint64
	out = out[:len(v)]
	if q.looked && differences {
		table := q.table
		k := uint64(last - q.low)
		for len(v) >= 4 && len(out) >= 4 {
			d, o := (*[4]int64)(v), (*[4]float64)(out)
			k0 := k + uint64(d[0])
			k1 := k0 + uint64(d[1])
			k2 := k1 + uint64(d[2])
			k = k2 + uint64(d[3])
			o[0], o[1], o[2], o[3] = table[k0%lookups], table[k1%lookups], table[k2%lookups], table[k%lookups]
			furthest = max(furthest, k0, k1, k2, k)
			v, out = v[4:], out[4:]
		}
		for i, d := range v {
			k += uint64(d)
			furthest = max(furthest, k)
			out[i] = table[k%lookups]
		}
		last = int64(k) + q.low
		return last, furthest <= q.span
	}
	if differences {
		for i, d := range v {
			last += d
			v[i] = last
		}
	}
	for i, n := range v {
		k := uint64(n - q.low)
		furthest = max(furthest, k)
		if q.looked {
			out[i] = q.table[k%lookups]
		} else {
			out[i] = q.divide(n)
		}
	}
	return v[len(v)-1], furthest <= q.span
}

func (r *reader) bits(rows int) []float64 {
	planes, err := decompressor.DecodeAll(r.rest, nil)
	r.rest = nil
	if err == nil && len(planes) != 8*rows {
		err = fmt.Errorf("byte planes hold %d bytes where %d rows need %d", len(planes), rows, 8*rows)
	}
	if err != nil {
		r.err = err
		return nil
	}
	col := r.room(rows)
	for i := range col {
		var b uint64
		for p := range 8 {
			b = b<<8 | uint64(planes[p*rows+i])
		}
		col[i] = math.Float64frombits(b)
	}
	return col
}

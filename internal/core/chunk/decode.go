package chunk

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"math"

	"nexocumula/internal/core/column"
)

// ErrDamaged is wrapped by every error about bytes that are not what Encode wrote.
var ErrDamaged = errors.New("damaged chunk")

// Packed is an opened chunk whose columns are decoded one by one, as they are asked
// for. It may be read by several at the same time.
type Packed struct {
	rows    int
	streams [][]byte // the times, then each column

	plain column.Block // instead of streams
}

// Open checks version, form and checksum, and takes the streams apart.
func Open(data []byte) (*Packed, error) {
	if len(data) < headerSize {
		return nil, fmt.Errorf("%w: %d bytes, shorter than a header", ErrDamaged, len(data))
	}
	if data[0] != version {
		return nil, fmt.Errorf("%w: version %d, this program reads version %d", ErrDamaged, data[0], version)
	}
	if crc32.Checksum(data[headerSize:], castagnoli) != binary.LittleEndian.Uint32(data[2:]) {
		return nil, fmt.Errorf("%w: checksum does not match", ErrDamaged)
	}
	r := reader{rest: data[headerSize:]}
	var p Packed
	switch data[1] {
	case bodyPlain:
		p.plain = r.plainBody()
		p.rows = p.plain.Len()
		if r.err == nil && !p.plain.Ordered() {
			r.err = errOrder
		}
	case bodyPacked:
		r.directory(&p)
	default:
		r.err = fmt.Errorf("unknown form %d of the body", data[1])
	}
	switch {
	case r.err != nil:
		return nil, fmt.Errorf("%w: %w", ErrDamaged, r.err)
	case len(r.rest) != 0:
		return nil, fmt.Errorf("%w: %d bytes behind the last column", ErrDamaged, len(r.rest))
	}
	return &p, nil
}

// Len returns the number of rows.
func (p *Packed) Len() int { return p.rows }

// Columns returns the number of value columns.
func (p *Packed) Columns() int {
	if p.streams == nil {
		return len(p.plain.Cols)
	}
	return len(p.streams) - 1
}

// Times returns the times of the rows, strictly ascending. They are written into into, if
// there is room.
func (p *Packed) Times(into []int64) ([]int64, error) {
	if p.streams == nil {
		return p.plain.Times, nil
	}
	r := reader{rest: p.streams[0]}
	times := r.times(p.rows, into)
	if err := r.end("the times"); err != nil {
		return nil, err
	}
	if !(column.Block{Times: times}).Ordered() {
		return nil, fmt.Errorf("%w: %w", ErrDamaged, errOrder)
	}
	return times, nil
}

// Column returns the i-th value column, written into into, if there is room.
func (p *Packed) Column(i int, into []float64) ([]float64, error) {
	if p.streams == nil {
		return p.plain.Cols[i], nil
	}
	r := reader{rest: p.streams[i+1], into: into}
	values := r.values(p.rows)
	return values, r.end(fmt.Sprintf("column %d", i))
}

// Decode reads all that Encode wrote. It never returns rows from bytes whose checksum
// or structure is wrong.
func Decode(data []byte) (column.Block, error) {
	p, err := Open(data)
	if err != nil {
		return column.Block{}, err
	}
	if p.streams == nil {
		return p.plain, nil
	}
	b := column.Block{Cols: make([][]float64, p.Columns())}
	if b.Times, err = p.Times(nil); err != nil {
		return column.Block{}, err
	}
	for i := range b.Cols {
		if b.Cols[i], err = p.Column(i, nil); err != nil {
			return column.Block{}, err
		}
	}
	return b, nil
}

// reader takes a body apart; the first error sticks.
type reader struct {
	rest []byte
	err  error
	into []float64 // for the values of a column
}

// room returns where the values of a column go.
func (r *reader) room(rows int) []float64 {
	if cap(r.into) >= rows {
		return r.into[:rows]
	}
	return make([]float64, rows)
}

var (
	errShort = errors.New("ends too early")
	errOrder = errors.New("times do not strictly ascend")
)

// end returns the stream's error, or an error if it was not used up.
func (r *reader) end(stream string) error {
	switch {
	case r.err != nil:
		return fmt.Errorf("%w: %s: %w", ErrDamaged, stream, r.err)
	case len(r.rest) > 0:
		return fmt.Errorf("%w: %d bytes behind the end of %s", ErrDamaged, len(r.rest), stream)
	}
	return nil
}

// shape reads how many rows and columns there are. Every row takes at least a share
// of a byte: a length beyond the bytes there are is a lie and must not make us
// allocate.
func (r *reader) shape(mostRowsPerByte int) (rows, cols int) {
	n, c := r.uvarint(), r.uvarint()
	if r.err == nil && (n < 1 || n > maxRows || n > uint64(mostRowsPerByte*len(r.rest)) || c > maxColumns) {
		r.err = fmt.Errorf("%d rows and %d columns in %d bytes", n, c, len(r.rest))
	}
	return int(n), int(c)
}

// directory cuts a packed body into its streams.
func (r *reader) directory(p *Packed) {
	rows, cols := r.shape(blockRows)
	lengths := make([]uint64, 0, maxColumns+1)
	for i := 0; i <= cols && r.err == nil; i++ {
		lengths = append(lengths, r.uvarint())
	}
	p.rows, p.streams = rows, make([][]byte, 0, len(lengths))
	for _, n := range lengths {
		if r.err == nil && n > uint64(len(r.rest)) {
			r.err = errShort
		}
		p.streams = append(p.streams, r.take(int(n)))
	}
}

func (r *reader) plainBody() column.Block {
	rows, cols := r.shape(1)
	if r.err != nil {
		return column.Block{}
	}
	b := column.Block{Times: make([]int64, rows), Cols: make([][]float64, cols)}
	b.Times[0] = r.varint()
	var d int64
	for i := 1; i < len(b.Times); i++ {
		d += r.varint()
		b.Times[i] = b.Times[i-1] + d
	}
	for i := range b.Cols {
		b.Cols[i] = r.column(rows)
	}
	return b
}

func (r *reader) column(rows int) []float64 {
	form := r.take(1)
	if r.err != nil {
		return nil
	}
	switch form[0] {
	case columnConstant:
		return r.constant(rows)
	case columnFull:
		return r.floats(rows)
	}
	r.err = fmt.Errorf("unknown column form %d", form[0])
	return nil
}

// floats reads a value a row, as it is.
func (r *reader) floats(rows int) []float64 {
	raw := r.take(8 * rows)
	if r.err != nil {
		return nil
	}
	col := r.room(rows)
	for i := range col {
		col[i] = math.Float64frombits(binary.LittleEndian.Uint64(raw[8*i:]))
	}
	return col
}

func (r *reader) take(n int) []byte {
	if r.err == nil && n > len(r.rest) {
		r.err = errShort
	}
	if r.err != nil {
		return nil
	}
	out := r.rest[:n]
	r.rest = r.rest[n:]
	return out
}

func (r *reader) uvarint() uint64 {
	if r.err != nil {
		return 0
	}
	v, n := binary.Uvarint(r.rest)
	if n <= 0 {
		r.err = errShort
		return 0
	}
	r.rest = r.rest[n:]
	return v
}

func (r *reader) varint() int64 {
	u := r.uvarint()
	return int64(u>>1) ^ -int64(u&1)
}

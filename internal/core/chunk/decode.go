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

// Decode reads what Encode wrote. It never returns rows from bytes whose checksum
// or structure is wrong.
func Decode(data []byte) (column.Block, error) {
	if len(data) < headerSize {
		return column.Block{}, fmt.Errorf("%w: %d bytes, shorter than a header", ErrDamaged, len(data))
	}
	if data[0] != version {
		return column.Block{}, fmt.Errorf("%w: version %d, this program reads version %d", ErrDamaged, data[0], version)
	}
	if crc32.Checksum(data[headerSize:], castagnoli) != binary.LittleEndian.Uint32(data[2:]) {
		return column.Block{}, fmt.Errorf("%w: checksum does not match", ErrDamaged)
	}
	r := reader{rest: data[headerSize:]}
	var b column.Block
	switch data[1] {
	case bodyPlain:
		b = r.plainBody()
	case bodyPacked:
		b = r.packedBody()
	default:
		r.err = fmt.Errorf("unknown form %d of the body", data[1])
	}
	switch {
	case r.err != nil:
		return column.Block{}, fmt.Errorf("%w: %w", ErrDamaged, r.err)
	case len(r.rest) != 0:
		return column.Block{}, fmt.Errorf("%w: %d bytes behind the last column", ErrDamaged, len(r.rest))
	case !b.Ordered():
		return column.Block{}, fmt.Errorf("%w: times do not strictly ascend", ErrDamaged)
	}
	return b, nil
}

// reader takes a body apart; the first error sticks.
type reader struct {
	rest []byte
	err  error
}

var errShort = errors.New("ends too early")

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

func (r *reader) packedBody() column.Block {
	rows, cols := r.shape(blockRows)
	lengths := make([]uint64, 0, maxColumns+1)
	for i := 0; i <= cols && r.err == nil; i++ {
		lengths = append(lengths, r.uvarint())
	}
	var b column.Block
	for i, n := range lengths {
		if r.err == nil && n > uint64(len(r.rest)) {
			r.err = errShort
		}
		stream := reader{rest: r.take(int(n)), err: r.err}
		if i == 0 {
			b.Times = stream.times(rows)
		} else {
			b.Cols = append(b.Cols, stream.values(rows))
		}
		if r.err = stream.err; r.err == nil && len(stream.rest) > 0 {
			r.err = fmt.Errorf("%d bytes behind the end of stream %d", len(stream.rest), i)
		}
		if r.err != nil {
			return column.Block{}
		}
	}
	return b
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
	col := make([]float64, rows)
	switch form[0] {
	case columnConstant:
		if raw := r.take(8); r.err == nil {
			v := math.Float64frombits(binary.LittleEndian.Uint64(raw))
			for i := range col {
				col[i] = v
			}
		}
	case columnFull:
		if raw := r.take(8 * rows); r.err == nil {
			for i := range col {
				col[i] = math.Float64frombits(binary.LittleEndian.Uint64(raw[8*i:]))
			}
		}
	default:
		r.err = fmt.Errorf("unknown column form %d", form[0])
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

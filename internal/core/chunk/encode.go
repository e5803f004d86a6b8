package chunk

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"math"
	"sync"

	"github.com/klauspost/compress/zstd"

	"nexocumula/internal/core/column"
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// The encoder and decoder are safe for concurrent use through EncodeAll and DecodeAll.
var (
	compressor, _ = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(1),
		zstd.WithWindowSize(512<<10), zstd.WithLowerEncoderMem(true))
	decompressor, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(2), zstd.WithDecoderLowmem(true),
		zstd.WithDecoderMaxMemory(maxBody))
)

// rooms are where payloads grow.
var rooms = sync.Pool{New: func() any { return new([]byte) }}

// Encode writes b, which must hold at least one row and be normalized, packed.
func Encode(b column.Block) ([]byte, error) {
	return encode(b, bodyPacked, appendPackedBody)
}

// EncodeQuick writes b packed, but what does not pack well raw: for what is small and
// read often.
func EncodeQuick(b column.Block) ([]byte, error) {
	return encode(b, bodyPacked, appendQuickBody)
}

// EncodePlain writes b with the least effort, for the journal.
func EncodePlain(b column.Block) ([]byte, error) {
	return encode(b, bodyPlain, appendPlainBody)
}

func encode(b column.Block, form byte, appendBody func([]byte, column.Block) []byte) ([]byte, error) {
	if b.Len() == 0 || b.Len() > maxRows || len(b.Cols) > maxColumns {
		return nil, fmt.Errorf("encoding a chunk: %d rows and %d columns; 1 to %d and up to %d are possible", b.Len(),
			len(b.Cols), maxRows, maxColumns)
	}
	if err := b.Check(); err != nil {
		return nil, fmt.Errorf("encoding a chunk: %w", err)
	}
	if !b.Ordered() {
		return nil, fmt.Errorf("encoding a chunk: times do not strictly ascend")
	}
	room := rooms.Get().(*[]byte)
	defer rooms.Put(room)
	out := append((*room)[:0], version, form, 0, 0, 0, 0)
	out = appendBody(out, b)
	binary.LittleEndian.PutUint32(out[2:], crc32.Checksum(out[headerSize:], castagnoli))
	*room = out[:0]
	return bytes.Clone(out), nil // many wait for one transaction: none keeps more than it needs
}

func appendPackedBody(out []byte, b column.Block) []byte { return appendStreams(out, b, appendBits) }

func appendQuickBody(out []byte, b column.Block) []byte { return appendStreams(out, b, appendRaw) }

// appendStreams writes the columns apart; bits writes one whose values are no decimals.
func appendStreams(out []byte, b column.Block, bits func([]byte, []float64) []byte) []byte {
	streams := appendTimes(nil, b.Times)
	lengths := []int{len(streams)}
	for _, col := range b.Cols {
		before := len(streams)
		streams = appendValues(streams, col, bits)
		lengths = append(lengths, len(streams)-before)
	}
	out = binary.AppendUvarint(out, uint64(b.Len()))
	out = binary.AppendUvarint(out, uint64(len(b.Cols)))
	for _, n := range lengths {
		out = binary.AppendUvarint(out, uint64(n))
	}
	return append(out, streams...)
}

func appendPlainBody(out []byte, b column.Block) []byte {
	out = binary.AppendUvarint(out, uint64(b.Len()))
	out = binary.AppendUvarint(out, uint64(len(b.Cols)))
	out = binary.AppendVarint(out, b.Times[0])
	var before int64
	for i := 1; i < b.Len(); i++ {
		d := b.Times[i] - b.Times[i-1]
		out = binary.AppendVarint(out, d-before)
		before = d
	}
	for _, col := range b.Cols {
		out = appendPlainColumn(out, col)
	}
	return out
}

func appendPlainColumn(out []byte, col []float64) []byte {
	if constant(col) {
		return binary.LittleEndian.AppendUint64(append(out, columnConstant), math.Float64bits(col[0]))
	}
	return appendFloats(append(out, columnFull), col)
}

func appendFloats(out []byte, col []float64) []byte {
	for _, v := range col {
		out = binary.LittleEndian.AppendUint64(out, math.Float64bits(v))
	}
	return out
}

func constant(col []float64) bool {
	first := math.Float64bits(col[0])
	for _, v := range col {
		if math.Float64bits(v) != first {
			return false
		}
	}
	return true
}

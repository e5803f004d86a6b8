package chunk

import (
	"encoding/binary"
	"fmt"
	"math/bits"
	"slices"
)

// appendPacked writes integers in blocks: frames of reference with patched
// exceptions, after Zukowski and others, Super-Scalar RAM-CPU Cache Compression (2006).
// Both ends of a block's range may be exceptions.
func appendPacked(out []byte, v []int64) []byte {
	for len(v) > 0 {
		n := min(len(v), blockRows)
		out = appendBlock(out, v[:n], 0)
		v = v[n:]
	}
	return out
}

// appendBlock writes one block; kind is added to its width, for readers who tell
// blocks apart by it.
func appendBlock(out []byte, v []int64, kind byte) []byte {
	base, width := frame(v)
	out = binary.AppendVarint(out, base)
	var rows [blockRows]byte
	exceptions := 0
	var packed [blockRows*8 + 8]byte
	at := 0
	for i, x := range v {
		d := uint64(x) - uint64(base)
		if width < 64 && d>>width != 0 {
			rows[exceptions] = byte(i)
			exceptions++
			d = 0
		}
		putBits(packed[:], at, d)
		at += width
	}
	head := byte(width) + kind
	if exceptions > 0 {
		out = append(out, head|hasExceptions, byte(exceptions))
	} else {
		out = append(out, head)
	}
	out = append(out, packed[:(at+7)/8]...)
	out = append(out, rows[:exceptions]...)
	for _, row := range rows[:exceptions] {
		out = binary.AppendVarint(out, v[row]-base)
	}
	return out
}

// putBits sets the bits of d from bit at on; those after it are still zero.
func putBits(b []byte, at int, d uint64) {
	shift := at & 7
	low := binary.LittleEndian.Uint64(b[at>>3:]) | d<<shift
	binary.LittleEndian.PutUint64(b[at>>3:], low)
	if shift > 0 {
		b[at>>3+8] |= byte(d >> (64 - shift))
	}
}

// frame picks the base and width that make a block smallest: for every width, the
// base whose frame holds the most integers.
func frame(v []int64) (base int64, width int) {
	var room [blockRows]int64
	sorted := append(room[:0], v...)
	slices.Sort(sorted)
	best := int(^uint(0) >> 1)
	// A frame that leaves out a quarter never pays: begin where it would hold the
	// middle three quarters.
	n := len(sorted)
	least := bits.Len64(uint64(sorted[n-1-n/8]) - uint64(sorted[n/8]))
	for w := max(0, least-1); w <= 64; w++ {
		most, from := 0, 0
		for i, j := 0, 0; j < len(sorted); j++ {
			for w < 64 && (uint64(sorted[j])-uint64(sorted[i]))>>w != 0 {
				i++
			}
			if j-i+1 > most {
				most, from = j-i+1, i
			}
		}
		outside := len(sorted) - most
		size := len(v)*w + outside*8
		for _, x := range sorted[:from] {
			size += varintBits(x - sorted[from])
		}
		for _, x := range sorted[from+most:] {
			size += varintBits(x - sorted[from])
		}
		if size < best {
			best, base, width = size, sorted[from], w
		}
		if outside == 0 {
			break // wider frames only cost more
		}
	}
	return base, width
}

func varintBits(x int64) int {
	return 8 * ((bits.Len64(uint64(x<<1)^uint64(x>>63)|1) + 6) / 7)
}

// packed reads rows integers into v.
func (r *reader) packed(v []int64) {
	for len(v) > 0 && r.err == nil {
		n := min(len(v), blockRows)
		base, width, exceptions := r.blockHead()
		r.block(v[:n], base, width, exceptions)
		v = v[n:]
	}
}

func (r *reader) blockHead() (base int64, width, exceptions int) {
	base = r.varint()
	head := r.take(1)
	if r.err != nil {
		return 0, 0, 0
	}
	if head[0]&hasExceptions != 0 {
		if x := r.take(1); r.err == nil {
			exceptions = int(x[0])
		}
	}
	return base, int(head[0] &^ hasExceptions), exceptions
}

func (r *reader) block(v []int64, base int64, width, exceptions int) {
	if r.err == nil && (width > 64 || exceptions > len(v)) {
		r.err = fmt.Errorf("a block of %d integers has width %d and %d exceptions", len(v), width, exceptions)
		return
	}
	size := (len(v)*width + 7) / 8
	ahead := r.rest
	data := r.take(size)
	if r.err != nil {
		return
	}
	if len(ahead) >= size+8 {
		unpack(v, ahead[:size+8], width, base)
	} else {
		var room [blockRows*8 + 8]byte
		copy(room[:], data)
		unpack(v, room[:], width, base)
	}
	for _, row := range r.take(exceptions) {
		d := r.varint()
		if int(row) >= len(v) {
			r.err = fmt.Errorf("an exception of a block of %d integers is at %d", len(v), row)
			return
		}
		v[row] = base + d
	}
}

// unpack reads len(v) integers of width bits and adds base. Hot: a shift and a mask per
// integer, and a load for as many as a word holds. Behind the integers data has eight bytes more, of whatever, so
// that eight can always be loaded at once.
func unpack(v []int64, data []byte, width int, base int64) {
	if width == 0 {
		for i := range v {
			v[i] = base
		}
		return
	}
	if width > 56 { // with its shift, one may spread over nine bytes
		for i := range v {
			v[i] = base + int64(slowBits(data, i*width, width))
		}
		return
	}
	mask := uint64(1)<<width - 1
	shift := uint(width) & 63 // known to be no more than a word has
	if width <= 8 {           // eight of them are whole bytes, and lie in one word
		for len(v) >= 8 {
			word := binary.LittleEndian.Uint64(data)
			eight := (*[8]int64)(v)
			eight[0] = base + int64(word&mask)
			word >>= shift
			eight[1] = base + int64(word&mask)
			word >>= shift
			eight[2] = base + int64(word&mask)
			word >>= shift
			eight[3] = base + int64(word&mask)
			word >>= shift
			eight[4] = base + int64(word&mask)
			word >>= shift
			eight[5] = base + int64(word&mask)
			word >>= shift
			eight[6] = base + int64(word&mask)
			word >>= shift
			eight[7] = base + int64(word&mask)
			v, data = v[8:], data[width:]
		}
	}
	each := 57 / width // integers that a word has whole, wherever in its first byte they begin
	at := uint(0)
	for len(v) > 0 {
		word := binary.LittleEndian.Uint64(data[at>>3:]) >> (at & 7)
		some := v[:min(each, len(v))]
		for i := range some {
			some[i] = base + int64(word&mask)
			word >>= shift
		}
		v = v[len(some):]
		at += uint(len(some) * width)
	}
}

// slowBits reads width bits from bit at on, byte by byte.
func slowBits(data []byte, at, width int) uint64 {
	var out uint64
	for got := 0; got < width; {
		take := min(8-(at&7), width-got)
		part := uint64(data[at>>3]>>(at&7)) & (1<<take - 1)
		out |= part << got
		got += take
		at += take
	}
	return out
}

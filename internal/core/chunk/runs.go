package chunk

import (
	"encoding/binary"
	"fmt"
	"math"
)

// mostNames is how many different values a dictionary may hold.
const mostNames = 256

// runs are a column of few values that stay for long, such as a state: the values by
// their bits, and one run after the other as a place in the dictionary and a length.
type runs struct {
	names   []uint64
	values  []int64 // of each run, an index of names
	lengths []int64 // of each run, minus 1
}

// runsOf is false when the values change so often that runs cannot be small.
func runsOf(col []float64) (r runs, ok bool) {
	known := map[uint64]int64{}
	most := max(2, len(col)/4)
	var before uint64
	for i, v := range col {
		bits := math.Float64bits(v)
		if i > 0 && bits == before {
			r.lengths[len(r.lengths)-1]++
			continue
		}
		before = bits
		at, found := known[bits]
		if !found {
			at = int64(len(r.names))
			known[bits] = at
			r.names = append(r.names, bits)
		}
		if len(r.lengths) == most || len(r.names) > mostNames {
			return runs{}, false
		}
		r.values, r.lengths = append(r.values, at), append(r.lengths, 0)
	}
	return r, true
}

func (r runs) encode(out []byte) []byte {
	out = binary.AppendUvarint(append(out, valuesRuns), uint64(len(r.names)))
	for _, bits := range r.names {
		out = binary.LittleEndian.AppendUint64(out, bits)
	}
	out = binary.AppendUvarint(out, uint64(len(r.values)))
	out = appendPacked(out, r.values)
	return appendPacked(out, r.lengths)
}

// runs reads a column of runs.
func (r *reader) runs(rows int) []float64 {
	count := r.uvarint()
	if r.err == nil && (count < 1 || count > mostNames) {
		r.err = fmt.Errorf("a dictionary has %d values; 1 to %d are possible", count, mostNames)
	}
	raw := r.take(8 * int(count))
	n := r.uvarint()
	if r.err == nil && (n < 1 || n > uint64(rows)) {
		r.err = fmt.Errorf("%d runs make %d rows", n, rows)
	}
	if r.err != nil {
		return nil
	}
	values, lengths := make([]int64, n), make([]int64, n)
	r.packed(values)
	r.packed(lengths)
	col := r.room(rows)[:0]
	for i := 0; i < len(values) && r.err == nil; i++ {
		if values[i] < 0 || values[i] >= int64(count) || lengths[i] < 0 || lengths[i] >= int64(rows-len(col)) {
			r.err = fmt.Errorf("run %d is of value %d of %d, and %d of the %d rows left", i, values[i], count,
				lengths[i]+1, rows-len(col))
			return nil
		}
		v := math.Float64frombits(binary.LittleEndian.Uint64(raw[8*values[i]:]))
		for range lengths[i] + 1 {
			col = append(col, v)
		}
	}
	if r.err == nil && len(col) != rows {
		r.err = fmt.Errorf("runs make %d of %d rows", len(col), rows)
	}
	return col
}

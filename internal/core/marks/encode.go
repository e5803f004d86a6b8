package marks

import (
	"cmp"
	"encoding/binary"
	"errors"
	"slices"
	"time"

	"nexocumula/internal/core/series"
)

// A run of marks is written mark after mark, in order of series, tier and time:
// uvarint of the series, counted from the mark before; uvarint of the tier in
// milliseconds, twice, or of another kind than summaries its number, twice, less 1; then varints of from, to
// less from, both in milliseconds; uvarint rows; varint since in seconds.
const unit = int64(time.Millisecond)

// mostMillis keeps times within what nanoseconds in 64 bits can say.
const mostMillis = int64(9e12)

var errDamaged = errors.New("saved marks end early or make no sense")

// Encode writes marks.
func Encode(all []Mark) []byte {
	slices.SortFunc(all, func(a, b Mark) int {
		return cmp.Or(cmp.Compare(a.Series, b.Series), cmp.Compare(a.Tier, b.Tier), cmp.Compare(a.From, b.From))
	})
	var out []byte
	var series uint32
	for _, m := range all {
		out = binary.AppendUvarint(out, uint64(m.Series-series))
		series = m.Series
		what := 2 * uint64(int64(m.Tier)/unit)
		if m.Kind != Summaries {
			what += 2*uint64(m.Kind) - 1
		}
		out = binary.AppendUvarint(out, what)
		from, to := floor(m.From), -floor(-m.To)
		out = binary.AppendVarint(out, from)
		out = binary.AppendUvarint(out, uint64(to-from))
		out = binary.AppendUvarint(out, uint64(max(0, m.Rows)))
		out = binary.AppendVarint(out, m.Since/int64(time.Second))
	}
	return out
}

func floor(t int64) int64 {
	if t < 0 && t%unit != 0 {
		return t/unit - 1
	}
	return t / unit
}

// of reads what a mark is about.
func of(id uint32, what int64) Of {
	if what%2 == 1 {
		return Of{Kind: Kind(what/2 + 1), Series: id}
	}
	return Of{Series: id, Tier: series.Tier(what / 2 * unit)}
}

// Decode reads what Encode wrote.
func Decode(data []byte) ([]Mark, error) {
	var out []Mark
	var id uint64
	for len(data) > 0 {
		var v [6]int64
		for i := range v {
			n := 0
			if i == 2 || i == 5 {
				v[i], n = binary.Varint(data)
			} else {
				var u uint64
				u, n = binary.Uvarint(data)
				v[i] = int64(u)
			}
			if n <= 0 || (i != 2 && i != 5 && v[i] < 0) {
				return nil, errDamaged
			}
			data = data[n:]
		}
		id += uint64(v[0])
		if id > 1<<32-1 || v[1]/2 > mostMillis || v[1]%2 == 1 && v[1] > 2*int64(Asked)-1 || v[2] > mostMillis ||
			v[2] < -mostMillis || v[3] < 1 || v[3] > mostMillis || v[5] > mostMillis/1000 || v[5] < 0 {
			return nil, errDamaged
		}
		out = append(out, Mark{
			Of:   of(uint32(id), v[1]),
			Span: Span{From: v[2] * unit, To: (v[2] + v[3]) * unit, Rows: int(v[4]), Since: v[5] * int64(time.Second)},
		})
	}
	return out, nil
}

package wire

import (
	"encoding/binary"
	"fmt"
	"math"

	"github.com/fxamacker/cbor/v2"
)

// Tags of RFC 8746, 2.1: little-endian arrays of 64-bit integers and floats.
const (
	tagInt64s   = 79
	tagFloat64s = 86
)

type int64s []int64

func (a int64s) MarshalCBOR() ([]byte, error) {
	raw := make([]byte, 0, 8*len(a))
	for _, v := range a {
		raw = binary.LittleEndian.AppendUint64(raw, uint64(v))
	}
	return encoding.Marshal(cbor.Tag{Number: tagInt64s, Content: raw})
}

func (a *int64s) UnmarshalCBOR(data []byte) error {
	raw, err := typedArray(data, tagInt64s)
	if err != nil {
		return err
	}
	*a = make([]int64, len(raw)/8)
	for i := range *a {
		(*a)[i] = int64(binary.LittleEndian.Uint64(raw[8*i:]))
	}
	return nil
}

type float64s []float64

func (a float64s) MarshalCBOR() ([]byte, error) {
	raw := make([]byte, 0, 8*len(a))
	for _, v := range a {
		raw = binary.LittleEndian.AppendUint64(raw, math.Float64bits(v))
	}
	return encoding.Marshal(cbor.Tag{Number: tagFloat64s, Content: raw})
}

func (a *float64s) UnmarshalCBOR(data []byte) error {
	raw, err := typedArray(data, tagFloat64s)
	if err != nil {
		return err
	}
	*a = make([]float64, len(raw)/8)
	for i := range *a {
		(*a)[i] = math.Float64frombits(binary.LittleEndian.Uint64(raw[8*i:]))
	}
	return nil
}

func typedArray(data []byte, tag uint64) ([]byte, error) {
	var t cbor.RawTag
	if err := cbor.Unmarshal(data, &t); err != nil {
		return nil, err
	}
	var raw []byte
	if err := cbor.Unmarshal(t.Content, &raw); err != nil {
		return nil, err
	}
	if t.Number != tag || len(raw)%8 != 0 {
		return nil, fmt.Errorf("typed array has tag %d and %d bytes; tag %d and a multiple of 8 are wanted", t.Number,
			len(raw), tag)
	}
	return raw, nil
}

package payload

import (
	"fmt"
	"math"
	"math/big"
	"strconv"

	"github.com/fxamacker/cbor/v2"

	"nexocumula/internal/config/shape"
)

// cborKeys are the same keys as for JSON: what CBOR holds is picked by the same pointers. Keys that are
// whole numbers are written as such.
type cborKeys struct {
	documentKeys `yaml:",inline"`
}

func (k *cborKeys) decoder(at shape.Place, f *fields) decoder {
	return k.documents(at, f, "cbor", readCBOR)
}

// cborMode bounds what a payload can make the parser build.
var cborMode = func() cbor.DecMode {
	mode, err := cbor.DecOptions{
		MaxNestedLevels: 32, MaxArrayElements: 1 << 17, MaxMapPairs: 1 << 17, DupMapKey: cbor.DupMapKeyEnforcedAPF,
		IntDec: cbor.IntDecConvertNone, TimeTag: cbor.DecTagOptional,
	}.DecMode()
	if err != nil {
		panic(err) // these options do not depend on anything
	}
	return mode
}()

func readCBOR(payload []byte) (any, error) {
	var root any
	if err := cborMode.Unmarshal(payload, &root); err != nil {
		return nil, fmt.Errorf("payload is not CBOR: %w", err)
	}
	return plainValue(root), nil
}

// plainValue removes tags and reduces numbers to a few types.
func plainValue(v any) any {
	switch v := v.(type) {
	case uint64:
		if v > math.MaxInt64 {
			return float64(v)
		}
		return int64(v)
	case big.Int:
		n, _ := new(big.Float).SetInt(&v).Float64()
		return n
	case cbor.Tag:
		return plainValue(v.Content)
	}
	return v
}

// keyed returns the value at a map key that a JSON Pointer gives as a text.
func keyed(object map[any]any, key string) (v any, ok bool) {
	if v, ok = object[key]; ok {
		return v, true
	}
	n, err := strconv.ParseInt(key, 10, 64)
	if err != nil {
		return nil, false
	}
	if n >= 0 {
		v, ok = object[uint64(n)]
	} else {
		v, ok = object[n]
	}
	return v, ok
}

package payload

import (
	"fmt"
	"math"
	"math/big"
	"time"

	"github.com/fxamacker/cbor/v2"

	"nexocumula/internal/config/shape"
)

// cborKeys are those of JSON: what CBOR holds is picked by the same pointers. Keys that are
// whole numbers are written as such.
type cborKeys struct {
	jsonKeys `yaml:",inline"`
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
	return asJSON(root), nil
}

// asJSON is a value with maps that JSON Pointers can point into, and numbers of few types.
func asJSON(v any) any {
	switch v := v.(type) {
	case map[any]any:
		out := make(map[string]any, len(v))
		for key, one := range v {
			out[fmt.Sprint(key)] = asJSON(one)
		}
		return out
	case []any:
		for i := range v {
			v[i] = asJSON(v[i])
		}
	case uint64:
		if v > math.MaxInt64 {
			return float64(v)
		}
		return int64(v)
	case big.Int:
		n, _ := new(big.Float).SetInt(&v).Float64()
		return n
	case cbor.Tag:
		return asJSON(v.Content)
	case time.Time, int64, float64, bool, string, []byte, nil:
		return v
	}
	return v
}

package payload

import (
	"errors"
	"fmt"
	"math"
	"math/big"
	"reflect"
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

// The modes bound what a payload can make the parser build. The first takes only keys that
// are texts, as most are, and needs no other map for them.
var (
	cborTexts = cborMode(reflect.TypeFor[map[string]any]())
	cborAny   = cborMode(nil)
)

func cborMode(maps reflect.Type) cbor.DecMode {
	mode, err := cbor.DecOptions{
		DefaultMapType:  maps,
		MaxNestedLevels: 32, MaxArrayElements: 1 << 17, MaxMapPairs: 1 << 17, DupMapKey: cbor.DupMapKeyEnforcedAPF,
		IntDec: cbor.IntDecConvertNone, TimeTag: cbor.DecTagOptional,
	}.DecMode()
	if err != nil {
		panic(err) // these options do not depend on anything
	}
	return mode
}

func readCBOR(payload []byte) (any, error) {
	var root any
	err := cborTexts.Unmarshal(payload, &root)
	if _, keys := errors.AsType[*cbor.UnmarshalTypeError](err); keys {
		root = nil
		err = cborAny.Unmarshal(payload, &root)
	}
	if err != nil {
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
	case map[string]any:
		for key, one := range v {
			switch one.(type) {
			case string, float64, bool: // as they should be
			default:
				v[key] = asJSON(one)
			}
		}
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

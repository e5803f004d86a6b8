package payload

import (
	"bytes"
	"fmt"
	"time"

	"github.com/vmihailenco/msgpack/v5"
	"github.com/vmihailenco/msgpack/v5/msgpcode"

	"nexocumula/internal/config/shape"
)

// msgpackKeys are the same keys as for JSON: what MessagePack holds is picked by the same pointers.
type msgpackKeys struct {
	documentKeys `yaml:",inline"`
}

func (k *msgpackKeys) decoder(at shape.Place, f *fields) decoder {
	return k.documents(at, f, "msgpack", readMsgpack)
}

const (
	deepestMsgpack  = 32
	mostMsgpackPart = 1 << 17 // values of all maps and arrays
)

func readMsgpack(payload []byte) (any, error) {
	from := bytes.NewReader(payload)
	r := msgpackReader{Decoder: msgpack.NewDecoder(from)}
	root, err := r.value(0)
	switch {
	case err != nil:
		return nil, fmt.Errorf("payload is not MessagePack: %w", err)
	case from.Len() > 0:
		return nil, fmt.Errorf("payload is not MessagePack: there are %d more bytes behind its end", from.Len())
	}
	return root, nil
}

// msgpackReader reads values of any kind with bounds, and keys as texts, as JSON Pointers have them.
type msgpackReader struct {
	*msgpack.Decoder
	values int
}

func (r *msgpackReader) value(depth int) (any, error) {
	if r.values++; r.values > mostMsgpackPart || depth > deepestMsgpack {
		return nil, fmt.Errorf("it has more than %d values, or they are nested deeper than %d", mostMsgpackPart,
			deepestMsgpack)
	}
	code, err := r.PeekCode()
	if err != nil {
		return nil, err
	}
	switch {
	case msgpcode.IsFixedMap(code) || code == msgpcode.Map16 || code == msgpcode.Map32:
		n, err := r.DecodeMapLen()
		if err != nil {
			return nil, err
		}
		object := map[string]any{}
		for range n {
			key, err := r.value(depth + 1)
			if err != nil {
				return nil, err
			}
			name, ok := textIn(key)
			if !ok {
				return nil, fmt.Errorf("%s is the key of a map", describe(key))
			}
			if _, twice := object[name]; twice {
				return nil, fmt.Errorf("the key %q stands twice in a map", clip(name))
			}
			if object[name], err = r.value(depth + 1); err != nil {
				return nil, err
			}
		}
		return object, nil
	case msgpcode.IsFixedArray(code) || code == msgpcode.Array16 || code == msgpcode.Array32:
		n, err := r.DecodeArrayLen()
		if err != nil {
			return nil, err
		}
		array := []any{}
		for range n {
			one, err := r.value(depth + 1)
			if err != nil {
				return nil, err
			}
			array = append(array, one)
		}
		return array, nil
	}
	one, err := r.DecodeInterfaceLoose()
	if err != nil {
		return nil, err
	}
	switch one := one.(type) {
	case uint64:
		return plainValue(one), nil
	case time.Time:
		return one, nil
	case *time.Time:
		return *one, nil
	}
	return one, nil
}

package payload

import (
	"fmt"
	"strings"

	"nexocumula/internal/config/shape"
)

// numberKeys are the keys of a payload that is one number.
type numberKeys struct {
	fieldKeys   `yaml:",inline"`
	numeralKeys `yaml:",inline"`
	writtenKeys `yaml:",inline"`
}

func (k *numberKeys) decoder(at shape.Place, f *fields) decoder {
	field, w := f.add(at, k.fieldKeys), k.writtenKeys.check(at, k.numeral(at), k.State, false)
	return func(payload []byte, emit func(value)) error {
		v := value{field: field}
		text := strings.TrimSpace(readText(payload))
		if bare, ok := strings.CutPrefix(text, `"`); ok {
			text = strings.TrimSuffix(bare, `"`)
		}
		if err := w.textual(&v, text); err != nil {
			return fmt.Errorf("payload %w", err)
		}
		emit(v)
		return nil
	}
}

package payload

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"nexocumula/internal/config/shape"
)

// numberKeys are the keys of a payload that is one number.
type numberKeys struct {
	fieldKeys  `yaml:",inline"`
	numeralKey `yaml:",inline"`
	FollowedBy []string `yaml:"followed_by" says:"what may stand behind the number, such as [\"°C\", \"C\"]; anything else is rejected"`
}

func (k *numberKeys) decoder(at shape.Place, f *fields) decoder {
	field, read, state := f.add(at, k.fieldKeys), k.numeral(at), k.State
	return func(payload []byte, emit func(value)) error {
		text := strings.TrimSpace(string(payload))
		for _, unit := range k.FollowedBy {
			if number, ok := strings.CutSuffix(text, unit); ok && unit != "" {
				text = strings.TrimSpace(number)
				break
			}
		}
		v, err := read(text)
		if err != nil && state && text != "" {
			emit(value{field: field, text: text})
			return nil
		}
		if err != nil {
			return fmt.Errorf("payload %w", err)
		}
		emit(value{field: field, raw: v})
		return nil
	}
}

// numeralKey says how numbers are written.
type numeralKey struct {
	Decimal string `yaml:"decimal" is:"point" says:"or comma: how numbers are written"`
}

// numeral reads texts as numbers; true and false are 1 and 0.
func (k numeralKey) numeral(at shape.Place) func(text string) (float64, error) {
	switch k.Decimal {
	case "", "point":
		return readNumber
	case "comma":
		return CommaNumber
	}
	at.Key("decimal").Wrong("%q is not known; use point or comma", k.Decimal)
	return readNumber
}

// CommaNumber reads a number with a decimal comma.
func CommaNumber(text string) (float64, error) {
	if strings.Contains(text, ".") {
		return 0, fmt.Errorf("%q has a point where decimal: comma says that there is none", clip(text))
	}
	v, err := readNumber(strings.Replace(text, ",", ".", 1))
	if err != nil {
		return 0, fmt.Errorf("%q is not a number with a decimal comma", clip(text))
	}
	return v, nil
}

// numeral is how a number is written. Go's parser also takes 1_000, 0x10 and infinity,
// which a device that is right would not send.
var numeral = regexp.MustCompile(`^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$`)

func readNumber(text string) (float64, error) {
	switch text {
	case "":
		return 0, fmt.Errorf("is empty where a number should be")
	case "true":
		return 1, nil
	case "false":
		return 0, nil
	}
	v, err := strconv.ParseFloat(text, 64)
	if err != nil || !numeral.MatchString(text) {
		return 0, fmt.Errorf("%q is not a number", clip(text))
	}
	return v, nil
}

func clip(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}

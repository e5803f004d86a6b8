package payload

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"nexocumula/internal/config/shape"
)

// numeralKeys say how numbers in texts are written.
type numeralKeys struct {
	Decimal   string `yaml:"decimal" is:"point" says:"or comma: how numbers in texts are written"`
	Thousands string `yaml:"thousands" is:"none" says:"mark that may stand between groups of three digits: comma, point, apostrophe or space"`
}

// groupMarks lists what can stand between groups of three digits.
var groupMarks = map[string]string{"comma": ",", "point": ".", "apostrophe": "'", "space": " "}

// numeral returns the function that reads texts as numbers; true and false are 1 and 0.
func (k numeralKeys) numeral(at shape.Place) func(text string) (float64, error) {
	read := readNumber
	switch k.Decimal {
	case "", "point":
	case "comma":
		read = CommaNumber
	default:
		at.Key("decimal").Wrong("%q is not known; use point or comma", k.Decimal)
	}
	if k.Thousands == "" {
		return read
	}
	mark, known := groupMarks[k.Thousands]
	switch {
	case !known:
		at.Key("thousands").Wrong("%q is not known; use comma, point, apostrophe or space", k.Thousands)
	case mark == "," && k.Decimal == "comma", mark == "." && k.Decimal != "comma":
		at.Key("thousands").Wrong("a %s cannot stand both before the decimals and between groups of digits",
			k.Thousands)
	default:
		return grouped(mark, read)
	}
	return read
}

// grouped reads numbers whose digits may stand in groups of three.
func grouped(mark string, read func(string) (float64, error)) func(string) (float64, error) {
	shape := regexp.MustCompile(`^[+-]?\d{1,3}(` + regexp.QuoteMeta(mark) + `\d{3})+(\D|$)`)
	return func(text string) (float64, error) {
		written := text
		if mark == " " {
			written = strings.NewReplacer("\u00a0", " ", "\u202f", " ").Replace(text)
		}
		if strings.Contains(written, mark) {
			if !shape.MatchString(written) {
				return 0, fmt.Errorf("%q is not a number with groups of three digits between %q", clip(text), mark)
			}
			written = strings.ReplaceAll(written, mark, "")
		}
		return read(written)
	}
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

// baseNumber reads whole numbers of another base than ten.
func baseNumber(base int) func(string) (float64, error) {
	prefix := map[int]string{16: "0x", 8: "0o", 2: "0b"}[base]
	return func(text string) (float64, error) {
		digits := text
		if len(text) > 2 && strings.EqualFold(text[:2], prefix) {
			digits = text[2:]
		}
		n, err := strconv.ParseUint(digits, base, 64)
		if err != nil {
			return 0, fmt.Errorf("%q is not a whole number of base %d", clip(text), base)
		}
		return float64(n), nil
	}
}

// numeral is how a number is written. Go's parser also takes 1_000, 0x10 and infinity,
// which a device that is right would not send.
var numeral = regexp.MustCompile(`^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$`)

func readNumber(text string) (float64, error) {
	switch text {
	case "":
		return 0, fmt.Errorf("is empty where a number should be")
	case "true", "True", "TRUE":
		return 1, nil
	case "false", "False", "FALSE":
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

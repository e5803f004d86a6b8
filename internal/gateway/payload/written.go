package payload

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"nexocumula/internal/config/shape"
)

// writtenKeys say how a value is written.
type writtenKeys struct {
	FollowedBy   []string `yaml:"followed_by" says:"texts that may follow a number, such as [\"°C\", \"C\"]; anything else is rejected"`
	Base         int      `yaml:"base" is:"10" says:"16, 8 or 2 for whole numbers in texts, with or without 0x, 0o or 0b before them"`
	Bits         []int    `yaml:"bits" says:"take only these bits of a whole number, such as [3] or [4, 7], counted from 0 (the lowest); the result is unsigned"`
	NotAvailable []string `yaml:"not_available" says:"numbers (before scale) and texts that mean no value: no reading and no reject, but counted as ignored. \"\" means an empty text or null"`
}

// missingKeys say the same of all values of a payload.
type missingKeys struct {
	NotAvailable []string `yaml:"not_available" says:"numbers (before scale) and texts that mean no value, for all values of the payload"`
}

// written reads a value as a form found it.
type written struct {
	read   func(text string) (float64, error)
	behind []string
	bits   []int // lowest and highest; nil: all
	none   []string
	below  []float64 // the numbers among none
	state  bool      // texts are names of states
	plain  bool      // texts are read as numbers are by default
}

// check returns how a value is read whose numbers are written like read says.
func (k writtenKeys) check(at shape.Place, read func(string) (float64, error), state, plain bool, missing ...string) written {
	out := written{
		read:   read,
		behind: k.FollowedBy,
		state:  state,
		plain:  plain && k.Base == 0 && len(k.FollowedBy) == 0,
	}
	switch k.Base {
	case 0, 10:
	case 2, 8, 16:
		out.read = baseNumber(k.Base)
	default:
		at.Key("base").Wrong("base %d is not known; use 16, 8 or 2, or leave it out", k.Base)
	}
	switch n := len(k.Bits); {
	case n == 0:
	case n > 2 || slices.Min(k.Bits) < 0 || slices.Max(k.Bits) > 52 || k.Bits[0] > k.Bits[n-1]:
		at.Key("bits").Wrong("%v is no bit or range of bits; write [3] or [4, 7], counted from 0, the lowest, to 52",
			k.Bits)
	default:
		out.bits = []int{k.Bits[0], k.Bits[n-1]}
	}
	for _, text := range slices.Concat(k.NotAvailable, missing) {
		out.none = append(out.none, text)
		if v, err := out.read(text); err == nil {
			out.below = append(out.below, v)
		} else if v, err := readNumber(text); err == nil {
			out.below = append(out.below, v)
		}
	}
	return out
}

// take reads what a form found at a place: a number, true or false, or a text.
func (w *written) take(v *value, found any, place string) {
	switch found := found.(type) {
	case float64:
		v.err = inPlaceOf(place, w.number(v, found))
	case string:
		w.text(v, found, place)
	case nil:
		if !slices.Contains(w.none, "") {
			v.err = fmt.Errorf("payload has null at %s where a number should be", place)
		}
		v.none = v.err == nil
	default:
		_, v.truth = found.(bool)
		n, err := numberIn(found, place)
		if v.err = err; err == nil {
			v.err = inPlaceOf(place, w.number(v, n))
		}
	}
}

func (w *written) number(v *value, n float64) error {
	if len(w.below) > 0 && slices.Contains(w.below, n) {
		v.none = true
		return nil
	}
	if v.raw = n; w.bits == nil {
		return nil
	}
	if n < 0 || n > 1<<53 || n != math.Trunc(n) {
		return fmt.Errorf("holds %v, which is no whole number with bits", n)
	}
	low, high := w.bits[0], w.bits[1]
	v.raw = float64(uint64(n) >> low & (1<<(high-low+1) - 1))
	return nil
}

func inPlaceOf(place string, err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("payload at %s %w", place, err)
}

// text takes a text of a document.
func (w *written) text(v *value, text, place string) {
	switch err := w.textual(v, text); {
	case err == nil:
	case w.plain:
		v.err = fmt.Errorf("payload has the text %q at %s where a number should be", clip(text), place)
	default:
		v.err = fmt.Errorf("payload has the text %q at %s: %w", clip(text), place, err)
	}
}

// textual takes a text: a number, the name of a state, or what stands for none.
func (w *written) textual(v *value, text string) error {
	text = strings.TrimSpace(text)
	if slices.Contains(w.none, text) {
		v.none = true
		return nil
	}
	numeral := text
	for _, unit := range w.behind {
		if number, ok := strings.CutSuffix(text, unit); ok && unit != "" {
			numeral = strings.TrimSpace(number)
			break
		}
	}
	n, err := w.read(numeral)
	switch {
	case err == nil:
		return w.number(v, n)
	case w.state && text != "":
		v.text = text
		return nil
	}
	return err
}

// numberIn returns a number, or 1 and 0 for true and false.
func numberIn(v any, place string) (float64, error) {
	switch v := v.(type) {
	case json.Number:
		n, err := v.Float64()
		if err != nil {
			return 0, fmt.Errorf("payload has %s at %s, which is no number that can be kept", clip(v.String()), place)
		}
		return n, nil
	case float64:
		return v, nil
	case int64:
		return float64(v), nil
	case bool:
		if v {
			return 1, nil
		}
		return 0, nil
	}
	return 0, fmt.Errorf("payload has %s at %s where a number should be", describe(v), place)
}

// textIn returns what can be part of a name, or be compared: a text, a number, true or false.
func textIn(v any) (text string, ok bool) {
	switch v := v.(type) {
	case string:
		return v, true
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64), true
	case json.Number:
		return v.String(), true
	case int64:
		return strconv.FormatInt(v, 10), true
	case bool:
		return strconv.FormatBool(v), true
	}
	return "", false
}

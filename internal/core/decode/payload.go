package decode

import (
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/go-openapi/jsonpointer"
)

// Form is how a payload is written.
type Form string

// The forms.
const (
	Number Form = "number" // one bare decimal number, or true, false
	JSON   Form = "json"   // RFC 8259; values are picked by JSON Pointers (RFC 6901)
)

// ParseForm reads a form; the empty text is a bare number.
func ParseForm(s string) (Form, error) {
	switch f := Form(s); f {
	case Number, JSON:
		return f, nil
	case "":
		return Number, nil
	}
	return "", fmt.Errorf("payload form %q is not known; use number or json", s)
}

// TimeForm is how a time is written inside a payload.
type TimeForm string

// The time forms.
const (
	RFC3339     TimeForm = "rfc3339"
	UnixSeconds TimeForm = "unix_s"
	UnixMillis  TimeForm = "unix_ms"
)

// ParseTimeForm reads a time form; the empty text is RFC 3339.
func ParseTimeForm(s string) (TimeForm, error) {
	switch f := TimeForm(s); f {
	case RFC3339, UnixSeconds, UnixMillis:
		return f, nil
	case "":
		return RFC3339, nil
	}
	return "", fmt.Errorf("time form %q is not known; use rfc3339, unix_s or unix_ms", s)
}

// decimal is how a number is written. Go's parser also takes 1_000, 0x10 and infinity,
// which a device that is right would not send.
var decimal = regexp.MustCompile(`^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$`)

// ReadNumber reads a bare number, with white space around it allowed; true and
// false are 1 and 0.
func ReadNumber(payload []byte) (float64, error) {
	text := strings.TrimSpace(string(payload))
	switch text {
	case "":
		return 0, fmt.Errorf("payload is empty where a number should be")
	case "true":
		return 1, nil
	case "false":
		return 0, nil
	}
	v, err := strconv.ParseFloat(text, 64)
	if err != nil || !decimal.MatchString(text) {
		return 0, fmt.Errorf("payload %q is not a number", clip(text))
	}
	return v, nil
}

// Document is a parsed JSON payload.
type Document struct{ root any }

// ReadJSON parses payload. The error gives the byte at which it stopped being JSON.
func ReadJSON(payload []byte) (Document, error) {
	var d Document
	if err := json.Unmarshal(payload, &d.root); err != nil {
		if syntax, ok := err.(*json.SyntaxError); ok {
			return d, fmt.Errorf("payload is not JSON: byte %d: %w", syntax.Offset, err)
		}
		return d, fmt.Errorf("payload is not JSON: %w", err)
	}
	return d, nil
}

// Pointer is a checked JSON Pointer.
type Pointer struct {
	text    string
	pointer jsonpointer.Pointer
	key     string // set when the pointer is one plain member of the root, the common case
}

// ParsePointer checks s.
func ParsePointer(s string) (Pointer, error) {
	p, err := jsonpointer.New(s)
	if err != nil {
		return Pointer{}, fmt.Errorf("%q is not a JSON Pointer (RFC 6901), such as /water/temp: %w", s, err)
	}
	out := Pointer{text: s, pointer: p}
	if tokens := p.DecodedTokens(); len(tokens) == 1 {
		out.key = tokens[0]
	}
	return out, nil
}

// String is the pointer as it was written.
func (p Pointer) String() string { return p.text }

func (d Document) at(p Pointer) (any, error) {
	if object, ok := d.root.(map[string]any); ok && p.key != "" {
		if v, ok := object[p.key]; ok {
			return v, nil
		}
		return nil, fmt.Errorf("payload has nothing at %s", p.text)
	}
	v, _, err := p.pointer.Get(d.root)
	if err != nil {
		return nil, fmt.Errorf("payload has nothing at %s", p.text)
	}
	return v, nil
}

// Number is the number, or 1 and 0 for true and false, at p.
func (d Document) Number(p Pointer) (float64, error) {
	v, err := d.at(p)
	if err != nil {
		return 0, err
	}
	switch v := v.(type) {
	case float64:
		return v, nil
	case bool:
		if v {
			return 1, nil
		}
		return 0, nil
	}
	return 0, fmt.Errorf("payload has %s at %s where a number should be", describe(v), p.text)
}

// Time is the time at p, in nanoseconds since 1970 in UTC.
func (d Document) Time(p Pointer, form TimeForm) (int64, error) {
	v, err := d.at(p)
	if err != nil {
		return 0, err
	}
	if form == RFC3339 {
		text, ok := v.(string)
		if !ok {
			return 0, fmt.Errorf("payload has %s at %s where an RFC 3339 time should be", describe(v), p.text)
		}
		t, err := time.Parse(time.RFC3339Nano, text)
		if err != nil || t.Year() < 1678 || t.Year() > 2261 {
			return 0, fmt.Errorf("payload has %q at %s where an RFC 3339 time such as 2026-03-01T08:00:00Z should be", clip(text), p.text)
		}
		return t.UnixNano(), nil
	}
	n, ok := v.(float64)
	unit := 1e9
	if form == UnixMillis {
		unit = 1e6
	}
	if !ok || math.IsNaN(n) || math.Abs(n*unit) >= math.MaxInt64 {
		return 0, fmt.Errorf("payload has %s at %s where a time in %s should be", describe(v), p.text, form)
	}
	whole, frac := math.Modf(n)
	return int64(whole)*int64(unit) + int64(math.Round(frac*unit)), nil
}

func describe(v any) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case string:
		return fmt.Sprintf("the text %q", clip(v))
	case float64:
		return fmt.Sprintf("the number %v", v)
	case bool:
		return fmt.Sprint(v)
	case []any:
		return "an array"
	default:
		return "an object"
	}
}

func clip(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}

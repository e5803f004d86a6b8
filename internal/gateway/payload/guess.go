package payload

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"nexocumula/internal/core/series"
)

// Guess is what a payload seems to be.
type Guess struct {
	Form       string // one of the forms; "sparkplug", or "bytes" of what is none
	Time       string // where its time stands; "": nowhere
	TimeForm   string
	Records    string // JSON Pointer to an array of records; "/" is the payload itself, "": there is one
	Device     string // of records: JSON Pointer to who each is of; "": they do not say
	Separator  string // of texts
	Pairs      string
	Columns    int
	FollowedBy string // what stands behind a number
	Values     []Guessed
}

// Guessed is a value in it.
type Guessed struct {
	At     string // JSON Pointer, column, or name
	Name   string // what its series might be called: a level of a path
	Sample string
	Unit   string // as the payload says
	State  bool   // it is a text, and so a state perhaps
	Truth  bool   // it is true or false
}

// mostGuessed bounds how many values of a payload are named.
const mostGuessed = 200

// GuessOf looks at a payload.
func GuessOf(topic string, raw []byte) Guess {
	if strings.HasPrefix(topic, "spBv1.0/") {
		return Guess{Form: "sparkplug"}
	}
	text := strings.TrimSpace(string(raw))
	if v, err := readJSON(raw); err == nil && len(text) > 0 && (text[0] == '{' || text[0] == '[') {
		return guessDocument(v, "json", "senml_json", nil)
	}
	if !utf8.Valid(raw) || strings.ContainsFunc(text, func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' && r != '\r' }) {
		if v, err := readCBOR(raw); err == nil {
			switch v := withTexts(v).(type) {
			case map[string]any, []any:
				return guessDocument(v, "cbor", "senml_cbor", senmlLabel)
			}
		}
		return Guess{Form: "bytes"}
	}
	if g, ok := guessNumber(text); ok {
		return g
	}
	if g, ok := guessText(text); ok {
		return g
	}
	return Guess{Form: "bytes"}
}

var numberWithUnit = regexp.MustCompile(`^([+-]?\d+(?:\.\d*)?(?:[eE][+-]?\d+)?)\s*([^\d\s,;:=|][^\s,;:=|]{0,9})?$`)

func guessNumber(text string) (g Guess, ok bool) {
	if text == "true" || text == "false" {
		return Guess{Form: "number", Values: []Guessed{{Sample: text, Truth: true}}}, true
	}
	found := numberWithUnit.FindStringSubmatch(text)
	if found == nil {
		return g, false
	}
	return Guess{Form: "number", FollowedBy: found[2], Values: []Guessed{{Sample: found[1], Unit: found[2]}}}, true
}

// guessText finds the separator that makes the most columns, of which one at least is a number.
func guessText(text string) (best Guess, ok bool) {
	line, _, _ := strings.Cut(text, "\n")
	for _, separator := range []string{";", ",", "|", "\t", blanks} {
		columns := strings.Split(line, separator)
		if separator == blanks {
			columns = strings.Fields(line)
		}
		if len(columns) <= max(best.Columns, 1) || len(columns) > mostColumns {
			continue
		}
		g := Guess{Form: "text", Separator: separator, Columns: len(columns)}
		for _, pairs := range []string{"=", ":"} {
			if !slices.ContainsFunc(columns, func(c string) bool {
				name, _, ok := strings.Cut(c, pairs)
				return !ok || !isWord(strings.TrimSpace(name))
			}) {
				g.Pairs = pairs
			}
		}
		for i, c := range columns {
			at, name, value := strconv.Itoa(i+1), fmt.Sprintf("column_%d", i+1), strings.TrimSpace(c)
			if g.Pairs != "" {
				at, value, _ = strings.Cut(value, g.Pairs)
				at, value = strings.TrimSpace(at), strings.TrimSpace(value)
				name = level(at)
			}
			if _, err := readNumber(value); err == nil && len(g.Values) < mostGuessed {
				g.Values = append(g.Values, Guessed{At: at, Name: name, Sample: value})
			} else if form := timeForm(value); form != "" && g.Time == "" {
				g.Time, g.TimeForm = at, form
			}
		}
		if len(g.Values) > 0 {
			best, ok = g, true
		}
	}
	if best.Pairs != "" {
		best.Columns = 0
	}
	return best, ok
}

func isWord(s string) bool {
	return s != "" && !strings.ContainsAny(s, " .,;:|") && (s[0] < '0' || s[0] > '9')
}

// level is a text as a level of a path.
func level(text string) string {
	out := series.CleanLevel(strings.ToLower(strings.TrimSpace(text)))
	if series.CheckLevel(out) != nil {
		return "value"
	}
	return out
}

// Signature is the same of payloads that the same lines of a configuration read.
func (g Guess) Signature() string {
	var out strings.Builder
	fmt.Fprintf(&out, "%s|%s|%s|%s|%s|%s|%d|%s|%s", g.Form, g.Records, g.Device, g.Time, g.TimeForm, g.Separator, g.Columns, g.Pairs, g.FollowedBy)
	if g.Form == "senml_json" || g.Form == "senml_cbor" {
		return out.String() // names say what they are
	}
	for _, v := range g.Values {
		fmt.Fprintf(&out, "|%s %t %t", v.At, v.State, v.Truth)
	}
	return out.String()
}

// String is the guess for people.
func (g Guess) String() string {
	var out strings.Builder
	out.WriteString(map[string]string{"senml_json": "SenML in JSON", "senml_cbor": "SenML in CBOR", "json": "JSON", "cbor": "CBOR", "sparkplug": "Sparkplug B", "bytes": "bytes that say nothing"}[g.Form])
	switch {
	case g.Form == "number" && g.FollowedBy != "":
		return "a number and " + g.FollowedBy
	case g.Form == "number":
		return "a number"
	case g.Form == "text" && g.Pairs != "":
		fmt.Fprintf(&out, "text, names and values with %q between, %s between pairs", g.Pairs, quoted(g.Separator))
	case g.Form == "text":
		fmt.Fprintf(&out, "text, %d columns, %s between", g.Columns, quoted(g.Separator))
	}
	switch g.Records {
	case "":
	case "/":
		out.WriteString(", an array of records")
	default:
		out.WriteString(", an array of records at " + g.Records)
	}
	var at []string
	for _, v := range g.Values {
		if v.At != "" {
			at = append(at, v.At)
		}
	}
	if len(at) > 0 {
		if len(at) > 8 {
			at = append(at[:8], fmt.Sprintf("and %d more", len(at)-8))
		}
		out.WriteString(": " + strings.Join(at, ", "))
	}
	if g.Device != "" {
		out.WriteString("; who, at " + g.Device)
	}
	if g.Time != "" {
		fmt.Fprintf(&out, "; time at %s, %s", g.Time, g.TimeForm)
	}
	return out.String()
}

// quoted returns a separator for people.
func quoted(separator string) string {
	if separator == blanks {
		return separator
	}
	return strconv.Quote(separator)
}

package payload

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"nexocumula/internal/core/series"
)

// Guess is what a payload seems to be.
type Guess struct {
	Form       string // one of the forms; "sparkplug", or "bytes" of what is none
	Time       string // where its time stands; "": nowhere
	TimeForm   string
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
	State  bool   // it is a text or a truth, and so a state perhaps
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
			switch v.(type) {
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
		return Guess{Form: "number", Values: []Guessed{{Sample: text, State: true}}}, true
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
	for _, separator := range []string{";", ",", "|", "\t", " "} {
		columns := strings.Split(line, separator)
		if separator == " " {
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

// guessDocument looks at a document.
func guessDocument(v any, form, senml string, label func(string) string) Guess {
	if records, ok := v.([]any); ok {
		if g, ok := guessSenML(records, senml, label); ok {
			return g
		}
		return Guess{Form: form}
	}
	g := Guess{Form: form}
	walkDocument("", v, func(pointer, key string, leaf any) {
		var sample string
		one := Guessed{At: pointer, Name: level(key)}
		switch leaf := leaf.(type) {
		case float64:
			sample = strconv.FormatFloat(leaf, 'g', -1, 64)
		case json.Number:
			sample = leaf.String()
		case int64:
			sample = strconv.FormatInt(leaf, 10)
		case bool:
			sample = strconv.FormatBool(leaf)
		case string:
			if form := timeForm(leaf); form != "" {
				if g.Time == "" || isTimeKey(key) {
					g.Time, g.TimeForm = pointer, form
				}
				return
			}
			if !slices.Contains(stateWords, strings.ToLower(leaf)) {
				return // a name, most likely
			}
			sample, one.State = leaf, true
		default:
			return
		}
		if form := timeForm(sample); form != "" && form != "rfc3339" && isTimeKey(key) && g.Time == "" {
			g.Time, g.TimeForm = pointer, form
			return
		}
		if one.Sample = clip(sample); len(g.Values) < mostGuessed {
			g.Values = append(g.Values, one)
		}
	})
	return g
}

// walkDocument goes through what is no object, in order of its keys.
func walkDocument(pointer string, v any, each func(pointer, key string, leaf any)) {
	object, ok := v.(map[string]any)
	if !ok {
		each(pointer, pointer[strings.LastIndexByte(pointer, '/')+1:], v)
		return
	}
	keys := make([]string, 0, len(object))
	for key := range object {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	for _, key := range keys {
		walkDocument(pointer+"/"+strings.NewReplacer("~", "~0", "/", "~1").Replace(key), object[key], each)
	}
}

func guessSenML(records []any, form string, label func(string) string) (g Guess, ok bool) {
	g.Form = form
	base, unit := "", ""
	for _, r := range records {
		record, is := r.(map[string]any)
		if !is {
			return g, false
		}
		field := func(name string) any {
			for key, v := range record {
				if key == name || label != nil && label(key) == name {
					return v
				}
			}
			return nil
		}
		if bn, is := field("bn").(string); is {
			base = bn
		}
		if bu, is := field("bu").(string); is {
			unit = bu
		}
		name, _ := field("n").(string)
		one := Guessed{At: base + name, Name: level(strings.TrimRight(base+name, "/:; ")[strings.LastIndexAny(strings.TrimRight(base+name, "/:; "), "/:; ")+1:]), Unit: unit}
		if u, is := field("u").(string); is {
			one.Unit = u
		}
		switch v := field("v").(type) {
		case nil:
			if field("vs") == nil && field("vb") == nil {
				if field("s") == nil && name == "" {
					continue // only base fields
				}
				return g, field("s") != nil
			}
			one.State, one.Sample = true, clip(fmt.Sprint(field("vs"), field("vb")))
		default:
			one.Sample = fmt.Sprint(v)
		}
		if base+name == "" {
			return g, false
		}
		if len(g.Values) < mostGuessed && !slices.ContainsFunc(g.Values, func(o Guessed) bool { return o.At == one.At }) {
			g.Values = append(g.Values, one)
		}
	}
	return g, len(g.Values) > 0
}

// stateWords are texts that are states, and no names.
var stateWords = []string{"on", "off", "open", "closed", "opening", "closing", "running", "stopped", "resting", "moving", "blocked", "ok", "fault", "alarm", "normal", "auto", "manual", "idle", "active", "high", "low", "full", "empty"}

var timeKeyNames = []string{"at", "t", "ts", "time", "timestamp", "date", "datetime", "when", "measured_at", "sampled_at"}

func isTimeKey(key string) bool { return slices.Contains(timeKeyNames, strings.ToLower(key)) }

// timeForm is how a text is a time of these years, or "".
func timeForm(text string) string {
	if _, err := time.Parse(time.RFC3339, text); err == nil {
		return "rfc3339"
	}
	v, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return ""
	}
	for form, scale := range map[string]float64{"unix_s": 1, "unix_ms": 1e3, "unix_us": 1e6, "unix_ns": 1e9} {
		if s := v / scale; s > 1.4e9 && s < 4.2e9 {
			return form
		}
	}
	return ""
}

// Signature is the same of payloads that the same lines of a configuration read.
func (g Guess) Signature() string {
	var out strings.Builder
	fmt.Fprintf(&out, "%s|%s|%s|%s|%d|%s|%s", g.Form, g.Time, g.TimeForm, g.Separator, g.Columns, g.Pairs, g.FollowedBy)
	if g.Form == "senml_json" || g.Form == "senml_cbor" {
		return out.String() // names say what they are
	}
	for _, v := range g.Values {
		fmt.Fprintf(&out, "|%s %t", v.At, v.State)
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
		fmt.Fprintf(&out, "text, names and values with %q between, %q between pairs", g.Pairs, g.Separator)
	case g.Form == "text":
		fmt.Fprintf(&out, "text, %d columns, %q between", g.Columns, g.Separator)
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
	if g.Time != "" {
		fmt.Fprintf(&out, "; time at %s, %s", g.Time, g.TimeForm)
	}
	return out.String()
}

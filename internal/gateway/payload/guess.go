package payload

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"nexocumula/internal/core/series"
)

// Guess describes the likely form of a payload.
type Guess struct {
	Form    string // one of the forms; "sparkplug", or "bytes" of what is none
	Time    string // where its time stands; "": nowhere
	Records string // JSON Pointer to an array of records; "/" is the payload itself, "": there is one
	Device  string // of records: place of who each is of; "": they do not say
	Keys    []Line // of the message, besides those above
	Values  []Guessed
	Doubt   string // what only a person can know; "": nothing
	Note    string // of bytes: what they seem to be
}

// Line is a key of the configuration, and what it says.
type Line struct{ Key, Value string } // as YAML writes it

// Guessed is a value in a payload.
type Guessed struct {
	At      string // JSON Pointer, column, or name
	ItemsOf bool   // At is an array each of whose items is a value
	Name    string // what its series might be called: a level of a path
	Sample  string
	Unit    string // as the payload says
	State   bool   // it is a text, and so a state perhaps
	Truth   bool   // it is true or false
	Keys    []Line // besides at and series
}

// mostGuessed bounds how many values of a payload are named.
const mostGuessed = 200

// GuessOf looks at a payload.
func GuessOf(topic string, raw []byte) Guess {
	if strings.HasPrefix(topic, "spBv1.0/") {
		return Guess{Form: "sparkplug"}
	}
	if g, ok := guessPacked(topic, raw); ok {
		return g
	}
	text := strings.TrimSpace(readText(raw))
	if text != "" && strings.ContainsRune("{[", rune(text[0])) {
		if v, err := readJSON(raw); err == nil {
			return guessDocument(v, "json", "senml_json", nil)
		}
		if all := readJSONs(raw, false); len(all) > 1 {
			if _, broken := all[len(all)-1].(error); !broken {
				g := guessDocument(all, "json", "", nil)
				g.Records, g.Keys = "", append(g.Keys, Line{"concatenated", "true"})
				return g
			}
		}
	}
	if strings.HasPrefix(text, "<") {
		if v, err := readXML(raw); err == nil {
			return guessDocument(v, "xml", "", nil)
		}
	}
	if isBinary(raw) {
		return guessBinary(raw)
	}
	return guessText(text)
}

// isBinary reports whether a payload is no text.
func isBinary(raw []byte) bool {
	text := bareText(raw)
	odd := 0
	for _, r := range string(text) {
		if r < ' ' && r != '\n' && r != '\t' && r != '\r' || r == utf8.RuneError || r >= 0x7f && r < 0xa0 {
			return true
		}
		if !utf8.Valid(raw) && r > 127 { // read as Windows-1252
			odd++
		}
	}
	return odd > 2 && odd > len(text)/4
}

// guessBinary looks for a document in bytes: of what can be read as both, the one that has names.
func guessBinary(raw []byte) Guess {
	var best Guess
	for _, form := range []struct {
		name, senml string
		parse       func([]byte) (any, error)
		label       func(string) string
	}{{"cbor", "senml_cbor", readCBOR, senmlLabel}, {"msgpack", "", readMsgpack, nil}} {
		v, err := form.parse(raw)
		if err != nil {
			continue
		}
		switch v := withTexts(v).(type) {
		case map[string]any, []any:
			g := guessDocument(v, form.name, form.senml, form.label)
			if _, named := v.(map[string]any); best.Form == "" || named && len(g.Values) > len(best.Values) {
				best = g
			}
		}
	}
	if best.Form != "" {
		return best
	}
	return Guess{
		Form: "bytes",
		Note: fmt.Sprintf("its payload is no form that is known. Of %d bytes in a fixed order, say with payload: binary where its values stand",
			len(raw)),
	}
}

// guessPacked looks at what a payload that is compressed or encoded holds.
func guessPacked(topic string, raw []byte) (g Guess, ok bool) {
	for _, one := range []struct{ begins, compression string }{
		{"\x1f\x8b", "gzip"}, {"\x28\xb5\x2f\xfd", "zstd"}, {"\x78\x01", "deflate"}, {"\x78\x5e", "deflate"},
		{"\x78\x9c", "deflate"}, {"\x78\xda", "deflate"},
	} {
		if !strings.HasPrefix(string(raw), one.begins) {
			continue
		}
		if inner, err := Unpack(one.compression, raw, MostUnpacked); err == nil {
			g = GuessOf(topic, inner)
			g.Keys = append([]Line{{"compression", one.compression}}, g.Keys...)
			return g, true
		}
	}
	text := strings.TrimSpace(string(raw))
	if len(text) < 8 || !strings.HasPrefix(text, "ey") && !strings.HasPrefix(text, "W3") &&
		!strings.HasPrefix(text, "7b") { // {" or [{ in base64, { in hexadecimal
		return g, false
	}
	for _, encoding := range []string{"base64", "hex"} {
		if inner, err := decodeText(encoding, text); err == nil {
			if g = GuessOf(topic, inner); g.Form == "json" || g.Form == "senml_json" {
				g.Keys = append([]Line{{"encoding", encoding}}, g.Keys...)
				return g, true
			}
		}
	}
	return g, false
}

// level returns a text as a level of a path.
func level(text string) string {
	out := series.CleanLevel(strings.ToLower(strings.TrimSpace(text)))
	if series.CheckLevel(out) != nil {
		return "value"
	}
	return out
}

// Signature returns the same of payloads that the same lines of a configuration read.
func (g Guess) Signature() string {
	var out strings.Builder
	fmt.Fprintf(&out, "%s|%s|%s|%s|%v", g.Form, g.Records, g.Device, g.Time, g.Keys)
	if g.Form == "senml_json" || g.Form == "senml_cbor" {
		return out.String() // names say what they are
	}
	for _, v := range g.Values {
		fmt.Fprintf(&out, "|%s %t %t %t %v", v.At, v.State, v.Truth, v.ItemsOf, v.Keys)
	}
	return out.String()
}

var formsForPeople = map[string]string{
	"senml_json": "SenML in JSON",
	"senml_cbor": "SenML in CBOR",
	"json":       "JSON",
	"cbor":       "CBOR",
	"msgpack":    "MessagePack",
	"xml":        "XML",
	"sparkplug":  "Sparkplug B",
	"bytes":      "bytes that say nothing",
}

// key returns what a key of the message says, without quotes.
func (g Guess) key(name string) string {
	for _, one := range g.Keys {
		if one.Key == name {
			if bare, err := strconv.Unquote(one.Value); err == nil {
				return bare
			}
			return one.Value
		}
	}
	return ""
}

// String returns the guess for people.
func (g Guess) String() string {
	var out strings.Builder
	if packed := g.key("compression") + g.key("encoding"); packed != "" {
		out.WriteString(packed + " of ")
	}
	switch separator := g.key("separator"); {
	case g.Form == "number":
		out.WriteString(g.numberForPeople())
	case g.Form == "text" && g.key("pattern") != "":
		out.WriteString("text, found by a pattern")
	case g.Form == "text" && g.key("pairs") != "":
		fmt.Fprintf(&out, "text, names and values with %q between, %s between pairs", g.key("pairs"), quoted(separator))
	case g.Form == "text" && g.key("header") != "":
		fmt.Fprintf(&out, "text, columns named by its first line, %s between", quoted(separator))
	case g.Form == "text":
		fmt.Fprintf(&out, "text, %s columns, %s between", g.key("columns"), quoted(separator))
	default:
		out.WriteString(formsForPeople[g.Form])
	}
	switch {
	case g.key("concatenated") != "":
		out.WriteString(", several one behind another")
	case g.Records == "":
	case g.Records == "/":
		out.WriteString(", an array of records")
	case strings.HasPrefix(g.Records, "/"):
		out.WriteString(", an array of records at " + g.Records)
	default:
		out.WriteString(", several records")
	}
	var at []string
	for _, v := range g.Values {
		if v.At != "" && (g.Form != "number") {
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
		form := g.key("time_form")
		if form == "" {
			form = "rfc3339"
		}
		fmt.Fprintf(&out, "; time at %s, %s", g.Time, form)
	}
	if g.Doubt != "" {
		out.WriteString("; likely, but " + g.Doubt)
	}
	return out.String()
}

func (g Guess) numberForPeople() string {
	v := g.Values[0]
	what := "a number"
	for _, one := range v.Keys {
		switch one.Key {
		case "not_available":
			return "a word for no value"
		case "base":
			what = "a hexadecimal number"
		}
	}
	if g.key("decimal") != "" {
		what += " with a decimal comma"
	}
	switch {
	case v.State:
		return "a state"
	case v.Unit != "":
		return what + " and " + v.Unit
	}
	return what
}

// quoted returns a separator for people.
func quoted(separator string) string {
	switch separator {
	case blanks:
		return separator
	case "":
		separator = ","
	}
	return strconv.Quote(separator)
}

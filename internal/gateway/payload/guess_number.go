package payload

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// guessedNumber is how a text is a number.
type guessedNumber struct {
	sample    string // the number without its unit
	comma     bool
	thousands string // a key of groupMarks
	unit      string
	base      int
	doubt     string
}

var (
	numberAndUnit = regexp.MustCompile(`^([+-]?(?:\d[\d.,'` + "\u00a0\u202f" + `]*|\d{1,3}(?: \d{3})+(?:[.,]\d+)?|[.,]\d+)(?:[eE][+-]?\d+)?)\s*([^\d\s,;:=|"'{}<>()\[\]+.-][^\s,;:=|"'{}<>]{0,9})?$`)
	hexadecimal   = regexp.MustCompile(`^0[xX][0-9a-fA-F]{1,16}$`)
	commaOnly     = regexp.MustCompile(`^[+-]?\d*,\d+([eE][+-]?\d+)?$`)
	groups3       = regexp.MustCompile(`^[+-]?\d{1,3}(\D\d{3})+(\D\d+)?$`)
)

// numberGuess finds out how a text is a number.
func numberGuess(text string) (out guessedNumber, ok bool) {
	text = strings.TrimSpace(text)
	if hexadecimal.MatchString(text) {
		return guessedNumber{sample: text, base: 16}, true
	}
	found := numberAndUnit.FindStringSubmatch(text)
	if found == nil {
		return out, false
	}
	out.sample, out.unit = found[1], found[2]
	switch n := out.sample; {
	case numeral.MatchString(n):
	case commaOnly.MatchString(n):
		out.comma = true
		if groups3.MatchString(n) {
			out.doubt = n + " could be whole thousands too"
		}
	case !groups3.MatchString(n):
		return out, false
	default:
		mark := strings.TrimLeft(n, "+-0123456789")
		lead := []rune(mark)[0]
		last := n[strings.LastIndexAny(n, ".,' \u00a0\u202f"):]
		switch lead {
		case ',':
			out.thousands = "comma"
		case '.':
			out.thousands, out.comma = "point", true
		case '\'':
			out.thousands, out.comma = "apostrophe", strings.HasPrefix(last, ",")
		default:
			out.thousands, out.comma = "space", strings.HasPrefix(last, ",")
		}
	}
	return out, true
}

// keys returns what a message must say of all numbers written like that, and the value of its own.
func (n guessedNumber) keys() (message, value []Line) {
	if n.comma {
		message = append(message, Line{"decimal", "comma"})
	}
	if n.thousands != "" {
		message = append(message, Line{"thousands", n.thousands})
	}
	if n.unit != "" {
		value = append(value, Line{"followed_by", "[" + strconv.Quote(n.unit) + "]"})
	}
	if n.base != 0 {
		value = append(value, Line{"base", strconv.Itoa(n.base)})
	}
	return message, value
}

// noneWords are written where there is no value.
var noneWords = []string{
	"nan", "-nan", "null", "none", "n/a", "na", "-", "--", "---", "----", "inf", "+inf", "-inf", "infinity",
	"-infinity", "undefined", "unavailable", "unknown", "err", "error",
}

func isNoneWord(text string) bool { return slices.Contains(noneWords, strings.ToLower(text)) }

var standIn = regexp.MustCompile(`^-9{3,6}(\.0+)?$`)

// standsForNone reports whether a number is one that devices send instead of none.
func standsForNone(text string) bool { return standIn.MatchString(text) }

// noneLine says which text or number stands for none.
func noneLine(text string) Line { return Line{"not_available", "[" + strconv.Quote(text) + "]"} }

// guessNumber looks at a payload that is one number, or a word.
func guessNumber(text string) (g Guess, ok bool) {
	text = strings.Trim(text, `"`)
	g.Form = "number"
	low := strings.ToLower(text)
	switch {
	case low == "true" || low == "false":
		g.Values = []Guessed{{Sample: text, Truth: true}}
		return g, true
	case isNoneWord(text):
		g.Values = []Guessed{{Sample: text, Keys: []Line{noneLine(text)}}}
		g.Doubt = "only a word for none was seen"
		return g, true
	case slices.Contains(stateWords, low):
		g.Values = []Guessed{{Sample: text, State: true, Keys: []Line{{"state", "true"}}}}
		return g, true
	}
	n, ok := numberGuess(text)
	if !ok {
		return g, false
	}
	v := Guessed{Sample: n.sample, Unit: n.unit}
	g.Keys, v.Keys = n.keys()
	g.Doubt = n.doubt
	if standsForNone(n.sample) {
		v.Keys = append(v.Keys, noneLine(n.sample))
		g.Doubt = n.sample + " was taken for none"
	}
	g.Values = []Guessed{v}
	return g, true
}

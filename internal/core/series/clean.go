package series

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// spelled lists the letters that are written as several, or as others, where there are only those of ASCII.
var spelled = strings.NewReplacer(
	"ä", "ae", "ö", "oe", "ü", "ue", "Ä", "Ae", "Ö", "Oe", "Ü", "Ue", "ß", "ss", "ẞ", "SS",
	"æ", "ae", "Æ", "Ae", "œ", "oe", "Œ", "Oe", "ø", "oe", "Ø", "Oe", "å", "aa", "Å", "Aa", "ł", "l", "Ł", "L", "đ", "d", "Đ", "D", "ð", "d", "þ", "th",
	"µ", "u", "μ", "u", "Ω", "Ohm", "Ω", "Ohm", "%", "pct",
)

// CleanLevel makes a level of a path of any text, by these rules: a text that is a level stays as it is.
// Otherwise ä, ö, ü and ß become ae, oe, ue and ss, and likewise a few more; letters lose their accents, and
// raised digits become digits; what is still no letter, digit, '-', '_' or '.' becomes one '_', also several
// in a row, and none at the beginning and the end. What comes of it can still be no level: empty, or dots
// alone.
func CleanLevel(text string) string {
	if CheckLevel(text) == nil {
		return text
	}
	var out strings.Builder
	gap := false
	for _, letter := range norm.NFKD.String(spelled.Replace(norm.NFC.String(text))) {
		switch {
		case unicode.Is(unicode.Mn, letter): // an accent
		case letter > 127 || !levelByte(byte(letter)):
			gap = true
		default:
			if gap && out.Len() > 0 && letter != '_' && !strings.HasSuffix(out.String(), "_") {
				out.WriteByte('_')
			}
			gap = false
			out.WriteRune(letter)
		}
	}
	return out.String()
}

package formula

import "slices"

// words that formulas read as something else than a name.
var words = []string{
	"in", "not", "and", "or", "true", "false", "nil", "let", "if", "else", "matches", "contains", "startsWith",
	"endsWith",
}

// IsName reports whether a formula can use a text as a name.
func IsName(s string) bool {
	if slices.Contains(words, s) {
		return false
	}
	for i, c := range s {
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_'
		if !letter && (i == 0 || c < '0' || c > '9') {
			return false
		}
	}
	return s != "" && len(s) <= 40
}

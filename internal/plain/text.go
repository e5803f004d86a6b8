package plain

import (
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode"

	"golang.org/x/text/runes"
	"golang.org/x/text/transform"
)

// Devices and people give names and texts that others read in a terminal or a spreadsheet. What a terminal would take
// as an order, and a spreadsheet as a formula, must not come through.

// orders reports whether a character is for the terminal and not for the reader: control characters, and those that
// turn the direction of what follows.
func orders(r rune) bool {
	return unicode.IsControl(r) || r >= '\u202a' && r <= '\u202e' || r >= '\u2066' && r <= '\u2069' || r == '\u200e' ||
		r == '\u200f'
}

// picture returns a visible character for one that gives orders.
func picture(r rune) rune {
	switch {
	case r == '\n' || r == '\t':
		return r
	case r < 0x20:
		return 0x2400 + r // Control Pictures
	case r == 0x7f:
		return 0x2421
	case orders(r):
		return unicode.ReplacementChar
	}
	return r
}

// Printable shows what would give orders to a terminal, on one line.
func Printable(text string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' {
			return ' '
		}
		return picture(r)
	}, text)
}

// Terminal writes text to a terminal without the orders that may be in it.
func Terminal(to io.Writer) io.Writer {
	return &terminal{to, transform.NewWriter(to, runes.Map(picture))}
}

type terminal struct {
	to   io.Writer
	safe io.Writer
}

func (t *terminal) Write(data []byte) (int, error) { return t.safe.Write(data) }

// Bare returns what Terminal writes to, for what is no text or ours alone.
func Bare(w io.Writer) io.Writer {
	if t, ok := w.(*terminal); ok {
		return t.to
	}
	return w
}

// CheckText refuses a text that is kept and shown to others when it would give orders to a terminal.
func CheckText(text string) error {
	for _, r := range text {
		if orders(r) {
			return fmt.Errorf("it holds the character %U, which cannot be seen; leave control characters out", r)
		}
	}
	return nil
}

// Cell returns a text as a cell of CSV that a spreadsheet takes as text: one that begins as formulas do gets an
// apostrophe before it. Numbers stay as they are. Source: OWASP, CSV Injection.
func Cell(text string) string {
	if text == "" || !strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return text
	}
	if _, err := strconv.ParseFloat(text, 64); err == nil {
		return text
	}
	return "'" + text
}

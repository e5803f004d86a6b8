package shape

import (
	"fmt"
	"regexp"
	"strings"
)

// broken says more of a text that is no YAML than its parser does: what is likely wrong, and the corrected line.
func broken(file string, text []byte, said Problem) Problem {
	lines := strings.Split(string(text), "\n")
	for i, line := range lines {
		if indent := line[:len(line)-len(strings.TrimLeft(line, " \t"))]; strings.Contains(indent, "\t") {
			return Problem{
				file, i + 1, strings.IndexByte(line, '\t') + 1,
				fmt.Sprintf("the line is indented by a tab; YAML wants spaces. Write: %s",
					strings.ReplaceAll(indent, "\t", "  ")+strings.TrimLeft(line, " \t")),
			}
		}
	}
	// The parser often stops at a line behind the one that is wrong.
	for i, line := range lines[:min(said.Line, len(lines))] {
		if openQuote.MatchString(line) { // and all that follows was taken for its text
			return Problem{
				file, i + 1, 1 + indentOf(line),
				fmt.Sprintf("a double quote is missing. Write: %s (%s)", strings.TrimSpace(line)+`"`, said.Text),
			}
		}
	}
	for _, n := range []int{said.Line, said.Line - 1, said.Line - 2} {
		if n < 1 || n > len(lines) {
			continue
		}
		if what, corrected, found := mend(lines[n-1]); found {
			return Problem{
				file, n, 1 + len(lines[n-1]) - len(strings.TrimLeft(lines[n-1], " ")),
				fmt.Sprintf("%s. Write: %s (%s)", what, strings.TrimSpace(corrected), said.Text),
			}
		}
	}
	if n := said.Line; n > 1 && n <= len(lines) {
		if above := lastLine(lines[:n-1]); above >= 0 && indentOf(lines[n-1]) != indentOf(lines[above]) &&
			!strings.HasSuffix(strings.TrimSpace(lines[above]), ":") {
			said.Text = fmt.Sprintf("the line is indented by %d spaces, and line %d above it by %d; keys of one thing stand below one another (%s)",
				indentOf(lines[n-1]), above+1, indentOf(lines[above]), said.Text)
		}
	}
	return said
}

// lastLine returns the last line that is neither empty nor a comment, or -1.
func lastLine(lines []string) int {
	for i := len(lines) - 1; i >= 0; i-- {
		if bare := strings.TrimSpace(lines[i]); bare != "" && bare[0] != '#' {
			return i
		}
	}
	return -1
}

func indentOf(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }

var (
	openQuote    = regexp.MustCompile(`^\s*(?:- )?[\w.]+: "[^"]*$`)
	bracesBare   = regexp.MustCompile(`^(\s*(?:- )?[\w.]+: )(\{[\w-]+\}[^"',{}]*?)\s*$`)                    // series: {buoy}/oxygen
	bracesInFlow = regexp.MustCompile(`([\w.]+: )((?:[^"'{}\[\],: ]+/)?\{[\w-]+\}[^"',{}\[\] ]*)(\s*[,}])`) // in { series: {buoy}/oxygen }
	markBare     = regexp.MustCompile(`^(\s*(?:- )?[\w.]+: )([@%*&!\x60][^"']*?)\s*$`)
	colonInText  = regexp.MustCompile(`^(\s*(?:- )?[\w.]+: )([^"'{\[|>&*#][^"']*: [^"']*?)\s*$`)
	noBlank      = regexp.MustCompile(`^(\s*(?:- )?[a-z_]+):([^\s:/][^{}\[\]]*)$`)
)

// mend finds what is often wrong with a line, and how it would be right.
func mend(line string) (what, corrected string, found bool) {
	switch {
	case bracesBare.MatchString(line):
		return "braces begin keys and values where no quotes stand around them", bracesBare.ReplaceAllString(line,
			`$1"$2"`), true
	case bracesInFlow.MatchString(line):
		return "braces begin keys and values where no quotes stand around them", bracesInFlow.ReplaceAllString(line,
			`$1"$2"$3`), true
	case markBare.MatchString(line):
		return "a text that begins with one of @ % * & ! needs quotes", markBare.ReplaceAllString(line, `$1"$2"`), true
	case strings.Count(line, `"`)%2 == 1:
		return "a double quote is missing", strings.TrimRight(line, " ") + `"`, true
	case strings.Count(line, "'")%2 == 1 && !strings.Contains(line, `"`):
		return "a single quote is missing", strings.TrimRight(line, " ") + "'", true
	case strings.Count(line, "{") > strings.Count(line, "}"):
		return "a closing brace is missing", strings.TrimRight(line, " ,") + " }", true
	case strings.Count(line, "[") > strings.Count(line, "]"):
		return "a closing bracket is missing", strings.TrimRight(line, " ,") + "]", true
	case colonInText.MatchString(line):
		return "a text with a colon and a blank in it needs quotes", colonInText.ReplaceAllString(line, `$1"$2"`), true
	case noBlank.MatchString(line):
		return "a blank belongs behind the colon of a key", noBlank.ReplaceAllString(line, "$1: $2"), true
	}
	return "", "", false
}

package payload

import (
	"encoding/csv"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"nexocumula/internal/core/unit"
)

// guessText looks at a payload that is a text.
func guessText(text string) Guess {
	if text == "" {
		return Guess{Form: "bytes", Note: "its payload is empty"}
	}
	if g, ok := guessNumber(text); ok {
		return g
	}
	lines := strings.Split(strings.TrimRight(text, "\r\n"), "\n")
	var best guessedColumns
	for _, separator := range []string{";", "|", "\t", blanks, ","} {
		for _, quotes := range []bool{false, true} {
			if c, ok := columnsGuess(lines, separator, quotes); ok && c.better(best) {
				best = c
			}
		}
	}
	if len(best.guess.Values) > 0 {
		return best.guess
	}
	if g, ok := guessPattern(text); ok {
		return g
	}
	return Guess{Form: "bytes", Note: "no value was found in its text"}
}

// guessedColumns is a way to take a text apart, and how well that goes.
type guessedColumns struct {
	guess     Guess
	good, odd int // columns that are values or times, and those that are neither a value nor a word
	apart     int // columns
}

func (c guessedColumns) better(than guessedColumns) bool {
	return len(than.guess.Values) == 0 || c.good-2*c.odd > than.good-2*than.odd
}

// cut takes a line apart.
func cut(line, separator string, quotes bool) []string {
	switch {
	case quotes:
		reader := csv.NewReader(strings.NewReader(line))
		reader.Comma, _ = utf8.DecodeRuneInString(separator)
		reader.FieldsPerRecord, reader.TrimLeadingSpace = -1, true
		columns, err := reader.Read()
		if err != nil {
			return nil
		}
		return columns
	case separator == blanks:
		return strings.Fields(line)
	}
	return strings.Split(line, separator)
}

// columnsGuess takes lines apart at a separator.
func columnsGuess(lines []string, separator string, quotes bool) (out guessedColumns, ok bool) {
	if quotes && (separator == blanks || !strings.Contains(lines[0], `"`)) {
		return out, false
	}
	rows := make([][]string, len(lines))
	for i, line := range lines {
		rows[i] = cut(strings.TrimRight(line, "\r"), separator, quotes)
	}
	last := rows[len(rows)-1]
	if len(last) == 0 || len(last) > mostColumns {
		return out, false
	}
	g := Guess{Form: "text"}
	if separator != "," {
		g.Keys = append(g.Keys, Line{"separator", strconv.Quote(separator)})
	}
	if quotes {
		g.Keys = append(g.Keys, Line{"quotes", "true"})
	}
	if pairs := pairsOf(rows); pairs != "" && !quotes {
		g.Keys = append(g.Keys, Line{"pairs", strconv.Quote(pairs)})
		if len(lines) > 1 {
			g.Records, g.Keys = "lines", append(g.Keys, Line{"records", `"\n"`})
		}
		out.take(&g, last, func(i int, column string) (at, name, text string) {
			at, text, _ = strings.Cut(column, pairs)
			return strings.TrimSpace(at), level(at), strings.TrimSpace(text)
		})
		out.guess = g
		return out, out.good > 0
	}
	if len(last) < 2 && separator != ";" {
		return out, false
	}
	header, skip := headOf(rows)
	if len(last) < 2 && len(rows)-skip < 2 {
		return out, false
	}
	if skip > 0 {
		g.Keys = append(g.Keys, Line{"skip_lines", strconv.Itoa(skip)})
	}
	switch {
	case header:
		g.Records, g.Keys = "lines", append(g.Keys, Line{"header", "true"})
	default:
		g.Keys = append(g.Keys, Line{"columns", strconv.Itoa(len(last))})
		if len(rows)-skip > 1 && !quotes && skip == 0 {
			g.Records, g.Keys = "lines", append(g.Keys, Line{"records", `"\n"`})
		}
	}
	out.take(&g, last, func(i int, column string) (at, name, text string) {
		if header {
			return strings.TrimSpace(rows[skip][i]), level(rows[skip][i]), strings.TrimSpace(column)
		}
		return strconv.Itoa(i + 1), fmt.Sprintf("column_%d", i+1), strings.TrimSpace(column)
	})
	out.guess = g
	return out, out.good > 0
}

// pairsOf returns what stands between names and values, if each column is a pair.
func pairsOf(rows [][]string) string {
	for _, pairs := range []string{"=", ":"} {
		if !slices.ContainsFunc(rows, func(row []string) bool {
			return len(row) == 0 || slices.ContainsFunc(row, func(c string) bool {
				name, text, ok := strings.Cut(c, pairs)
				return !ok || !isWord(strings.TrimSpace(name)) || strings.TrimSpace(text) == ""
			})
		}) {
			return pairs
		}
	}
	return ""
}

// headOf finds a line that names the columns, and lines before the first record.
func headOf(rows [][]string) (header bool, skip int) {
	n := len(rows[len(rows)-1])
	for skip < len(rows)-1 && len(rows[skip]) != n {
		skip++
	}
	numbers := func(row []string) (n int) {
		for _, c := range row {
			if _, ok := numberGuess(c); ok {
				n++
			}
		}
		return n
	}
	rest := rows[skip:]
	header = len(rest) > 1 && numbers(rest[0]) == 0 && numbers(rest[1]) > 0 &&
		!slices.ContainsFunc(rest[0], func(c string) bool {
			_, isTime := timeGuess(c)
			return isTime || strings.TrimSpace(c) == ""
		})
	return header, skip
}

// take adds the columns of a record to a guess.
func (c *guessedColumns) take(g *Guess, row []string, of func(i int, column string) (at, name, text string)) {
	var decimals, groups []Line
	date, before := -1, "" // before is the column to the left
	for i, column := range row {
		c.apart++
		at, name, text := of(i, column)
		if i > 0 && date == i-1 && date >= 0 && g.Time == "" {
			if t, ok := whole(row[i-1], text); ok {
				was, _, _ := of(i-1, row[i-1])
				g.Time = was
				g.Keys = append(append(g.Keys, Line{"time_of_day", strconv.Quote(at)}), t.keys()...)
				g.Doubt = t.doubt
				c.good += 2
				continue
			}
		}
		if dateAlone.MatchString(text) {
			date = i
			continue
		}
		if t, ok := timeGuess(text); ok && g.Time == "" {
			g.Time, g.Keys = at, append(g.Keys, t.keys()...)
			if t.doubt != "" {
				g.Doubt = t.doubt
			}
			c.good++
			continue
		}
		if n := len(g.Values); n > 0 && len(text) > 1 && unit.Known(text) != "" && c.apart > 1 &&
			g.Values[n-1].Unit == "" && g.Values[n-1].At == before {
			g.Values[n-1].Unit = unit.Known(text)
			g.Values[n-1].Keys = append(g.Values[n-1].Keys, Line{"unit_at", strconv.Quote(at)})
			continue
		}
		before = at
		v := Guessed{At: at, Name: name, Sample: text}
		switch n, ok := numberGuess(text); {
		case text == "":
			continue
		case isNoneWord(text):
			v.Keys = append(v.Keys, noneLine(text))
		case ok:
			message, own := n.keys()
			for _, one := range message {
				if one.Key == "decimal" {
					decimals = []Line{one}
				} else {
					groups = []Line{one}
				}
			}
			v.Unit, v.Sample, v.Keys = n.unit, n.sample, append(v.Keys, own...)
			if n.doubt != "" {
				g.Doubt = n.doubt
			}
			c.good++
		case slices.Contains(stateWords, strings.ToLower(text)):
			v.State = true
			v.Keys = append(v.Keys, Line{"state", "true"})
			c.good++
		default:
			if strings.ContainsFunc(text, unicode.IsDigit) && strings.ContainsAny(text, " ,;:=|\t") || len(text) > 40 {
				c.odd++
			}
			continue
		}
		if len(g.Values) < mostGuessed {
			g.Values = append(g.Values, v)
		}
	}
	g.Keys = append(append(g.Keys, decimals...), groups...)
}

func isWord(s string) bool {
	return s != "" && !strings.ContainsAny(s, " .,;:|{}\"'") && (s[0] < '0' || s[0] > '9')
}

var (
	pairInText   = regexp.MustCompile(`['"]?([A-Za-z][A-Za-z0-9_]*)['"]?\s*[=:]\s*[-+]?\d+(?:\.\d+)?`)
	numberInText = regexp.MustCompile(`(?:^|[\s=:(\[])([-+]?\d+(?:\.\d+)?)`)
	timeInText   = regexp.MustCompile(`^\[?(\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\dZ?)`)
	wordBefore   = regexp.MustCompile(`([A-Za-z][A-Za-z0-9_]*)[^A-Za-z0-9]*$`)
)

const numberPattern = `[-+0-9.]+`

// guessPattern finds names with numbers, or else numbers between words, in a text that has no columns.
func guessPattern(text string) (g Guess, ok bool) {
	if strings.Contains(text, "\n") || len(text) > 500 {
		return g, false
	}
	g = Guess{Form: "text", Doubt: "which words always stand there, only a person knows"}
	var pattern strings.Builder
	pattern.WriteString("^")
	rest := text
	if found := timeInText.FindStringSubmatchIndex(text); found != nil {
		if t, is := timeGuess(text[found[2]:found[3]]); is {
			pattern.WriteString(regexp.QuoteMeta(text[:found[2]]) + `(?P<at>` + timeShape.Replace(text[found[2]:found[3]]) + `)`)
			g.Time, rest = "at", text[found[3]:]
			g.Keys = t.keys()
		}
	}
	used := []string{"at"}
	add := func(name, number string) {
		name = strings.ToLower(name)
		for base, n := name, 2; slices.Contains(used, name); n++ {
			name = fmt.Sprintf("%s_%d", base, n)
		}
		used = append(used, name)
		pattern.WriteString(`(?P<` + name + `>` + numberPattern + `)`)
		g.Values = append(g.Values, Guessed{At: name, Name: level(name), Sample: number})
	}
	if pairs := pairInText.FindAllStringSubmatchIndex(rest, -1); pairs != nil {
		for _, p := range pairs {
			number := strings.IndexAny(rest[p[3]:p[1]], "-+0123456789") + p[3]
			pattern.WriteString(`.*?` + regexp.QuoteMeta(rest[p[0]:number]))
			add(rest[p[2]:p[3]], rest[number:p[1]])
		}
	} else {
		from := 0
		for _, n := range numberInText.FindAllStringSubmatchIndex(rest, -1) {
			pattern.WriteString(regexp.QuoteMeta(rest[from:n[2]]))
			name := "value"
			if word := wordBefore.FindStringSubmatch(rest[:n[2]]); word != nil {
				name = word[1]
			}
			add(name, rest[n[2]:n[3]])
			from = n[3]
		}
		pattern.WriteString(regexp.QuoteMeta(rest[from:]))
	}
	if len(g.Values) == 0 || len(g.Values) > 20 || !strings.ContainsFunc(rest, unicode.IsLetter) {
		return g, false
	}
	g.Keys = append([]Line{{"pattern", "'" + strings.ReplaceAll(pattern.String(), "'", "''") + "'"}}, g.Keys...)
	return g, true
}

var timeShape = strings.NewReplacer("0", `\d`, "1", `\d`, "2", `\d`, "3", `\d`, "4", `\d`, "5", `\d`, "6", `\d`, "7",
	`\d`, "8", `\d`, "9", `\d`)

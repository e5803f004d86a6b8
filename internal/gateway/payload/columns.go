package payload

import (
	"encoding/csv"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"nexocumula/internal/config/shape"
)

// columnKeys say how a text is taken apart.
type columnKeys struct {
	Separator string `yaml:"separator" is:"," says:"between columns, exactly as written; blanks for any number of spaces and tabs"`
	Records   string `yaml:"records" is:"one" says:"what stands between records, such as \"\\n\" or \"|\", when several come in one message. {n} is a record's number, from 1"`
	Pairs     string `yaml:"pairs" is:"by column" says:"what stands between a name and its value, such as \"=\" or \":\"; then at is a name, and columns may come in any order"`
	Columns   int    `yaml:"columns" is:"required by column" says:"how many columns a record has; a message with another number is rejected whole"`
	More      bool   `yaml:"more_columns" is:"false" says:"true if a record may have more columns than that; values there are optional"`
	Widths    []int  `yaml:"widths" says:"width of each column in letters, such as [8, 6, 6], instead of a separator"`
	Quotes    bool   `yaml:"quotes" is:"false" says:"true if columns may be in double quotes (RFC 4180); records are then lines"`
	Skip      int    `yaml:"skip_lines" is:"0" says:"lines before the first record"`
	Header    bool   `yaml:"header" is:"false" says:"true if the first line (after skip_lines) names the columns; at is then a name, and records are lines"`
	Pattern   string `yaml:"pattern" says:"instead of a separator: a regular expression (RE2) whose named groups, such as (?P<temp>[-0-9.]+), are the columns of a record; at is then a group's name"`
}

// columns takes texts apart into records and their columns.
type columns struct {
	separator, records, pairs string
	count                     int // 0: any
	more                      bool
	widths                    []int
	quotes, header            bool
	skip                      int
	pattern                   *regexp.Regexp
}

// blanks is the separator that stands for any number of spaces and tabs.
const blanks = "blanks"

// byName reports whether columns are called by names.
func (c *columns) byName() bool { return c.pairs != "" || c.header || c.pattern != nil }

func (k *columnKeys) check(at shape.Place) columns {
	c := columns{
		separator: k.Separator,
		records:   k.Records,
		pairs:     k.Pairs,
		count:     k.Columns,
		more:      k.More,
		widths:    k.Widths,
		quotes:    k.Quotes,
		header:    k.Header,
		skip:      k.Skip,
	}
	if c.separator == "" {
		c.separator = ","
	}
	if c.records == "" && (c.header || c.quotes || c.skip > 0) {
		c.records = "\n"
	}
	if k.Pattern != "" {
		c.pattern = shape.Parsed(at.Key("pattern"), k.Pattern, regexp.Compile)
		if k.Separator != "" || k.Pairs != "" || k.Columns != 0 || k.Widths != nil || k.Quotes || k.Header {
			at.Key("pattern").Wrong("a pattern finds the columns itself; leave out separator, pairs, columns, widths, quotes and header")
		}
	}
	if len(c.widths) > 0 {
		c.count = len(c.widths)
		if k.Separator != "" || k.Quotes || k.Pairs != "" || k.Columns != 0 && k.Columns != c.count || k.More ||
			slices.Min(c.widths) < 1 {
			at.Key("widths").Wrong("columns of fixed widths, each of 1 letter or more, have no separator, quotes and pairs, and are as many as widths")
		}
	}
	switch {
	case c.pairs == "" && c.pattern == nil && !c.header && (c.count < 1 || c.count > mostColumns):
		at.Key("columns").Wrong("say how many columns a record has, 1 to %d, so that one with another number is not taken for it",
			mostColumns)
	case c.pairs != "" && c.count != 0:
		at.Key("columns").Wrong("with pairs: columns have names, and any number may come; leave columns out")
	case c.separator == " ":
		at.Key("separator").Advise("columns are separated by exactly one space; write blanks where there may be more")
	case c.separator == c.records, c.pairs != "" && (c.pairs == c.separator || c.pairs == c.records):
		at.Key("separator").Wrong("separator, records and pairs must differ")
	}
	if (c.quotes || c.header) && c.records != "\n" {
		at.Key("records").Wrong("with quotes: or header: records are lines; leave records out")
	}
	if c.quotes && (c.pairs != "" || utf8.RuneCountInString(c.separator) != 1 ||
		strings.ContainsAny(c.separator, "\"\r\n")) {
		at.Key("quotes").Wrong("quotes stand around columns with one letter between them, and not around pairs")
	}
	if c.header && c.pairs != "" {
		at.Key("header").Wrong("with pairs: columns have their names in each record; leave header out")
	}
	at.Key("skip_lines").Count(max(c.skip, 0), 0, 0, 1000, "lines are")
	return c
}

// place checks what a value is said to be.
func (c *columns) place(at shape.Place, text string) string {
	n, err := strconv.Atoi(text)
	most := c.count
	if c.more {
		most = mostColumns
	}
	switch {
	case text == "":
		at.Wrong("say which name the value has")
	case c.pattern != nil && !slices.Contains(c.pattern.SubexpNames(), text):
		at.Wrong("%q is no named group of the pattern, such as (?P<%s>[-0-9.]+)", text, "temp")
	case !c.byName() && (err != nil || n < 1 || n > most):
		at.Wrong("%q is not a column; columns are counted from 1 to %d", text, most)
	}
	return text
}

// split returns the records of a text by the names or numbers of their columns.
func (c *columns) split(text string, fields int) (out []map[string]string, err error) {
	var names []string
	rows, err := c.rows(text, fields)
	if err != nil {
		return nil, err
	}
	if c.header {
		if len(rows) == 0 {
			return nil, errors.New("payload has no line that names its columns")
		}
		names, rows = rows[0], rows[1:]
	}
	for i, row := range rows {
		columns, err := c.named(row, names)
		if err != nil {
			if len(rows) > 1 {
				err = fmt.Errorf("record %d: %w", i+1, err)
			}
			return nil, err
		}
		out = append(out, columns)
	}
	return out, nil
}

// rows returns the columns of each record.
func (c *columns) rows(text string, fields int) (out [][]string, err error) {
	for range c.skip {
		_, rest, ok := strings.Cut(text, "\n")
		if !ok {
			return nil, fmt.Errorf("payload ends within the %d line(s) that are skipped", c.skip)
		}
		text = rest
	}
	text = c.trimmed(text)
	if c.quotes {
		reader := csv.NewReader(strings.NewReader(text))
		reader.Comma, _ = utf8.DecodeRuneInString(c.separator)
		reader.FieldsPerRecord, reader.TrimLeadingSpace = -1, c.separator != "\t" && c.separator != " "
		out, err = reader.ReadAll()
		if err != nil {
			return nil, fmt.Errorf("payload is not lines of columns: %w", err)
		}
		return out, tooMany(len(out), fields)
	}
	records := []string{text}
	if c.records != "" {
		records = strings.Split(text, c.records)
	}
	if err := tooMany(len(records), fields); err != nil {
		return nil, err
	}
	for i, record := range records {
		if record = c.trimmed(record); record == "" && i > 0 && i == len(records)-1 {
			continue // what separates records also ends the last
		}
		row, err := c.pieces(record)
		if err != nil {
			if len(records) > 1 {
				err = fmt.Errorf("record %d: %w", i+1, err)
			}
			return nil, err
		}
		out = append(out, row)
	}
	return out, nil
}

// trimmed returns a text without the white space around it that separates no columns.
func (c *columns) trimmed(text string) string {
	if len(c.widths) > 0 {
		return strings.Trim(text, "\r\n")
	}
	return strings.TrimFunc(text, func(r rune) bool {
		return unicode.IsSpace(r) && (c.separator == blanks || r != ' ' && r != '\t' ||
			!strings.ContainsRune(c.separator, r))
	})
}

// pieces takes one record apart.
func (c *columns) pieces(record string) (out []string, err error) {
	switch {
	case c.pattern != nil:
		found := c.pattern.FindStringSubmatch(record)
		if found == nil {
			return nil, fmt.Errorf("%q does not match the pattern", clip(record))
		}
		return found, nil
	case len(c.widths) > 0:
		letters := []rune(record)
		for _, width := range c.widths {
			n := min(width, len(letters))
			out, letters = append(out, string(letters[:n])), letters[n:]
		}
		if rest := strings.TrimSpace(string(letters)); rest != "" {
			return nil, fmt.Errorf("%q stands behind the last column: %q", clip(rest), clip(record))
		}
		return out, nil
	case c.separator == blanks:
		return strings.Fields(record), nil
	}
	return strings.Split(record, c.separator), nil
}

// named gives the columns of a record their names or numbers.
func (c *columns) named(row, header []string) (map[string]string, error) {
	out := make(map[string]string, len(row))
	record := func() string { return clip(strings.Join(row, c.separator)) }
	switch {
	case c.pattern != nil:
		for i, name := range c.pattern.SubexpNames() {
			if name != "" {
				out[name] = strings.TrimSpace(row[i])
			}
		}
		return out, nil
	case c.pairs != "":
		for _, piece := range row {
			name, text, ok := strings.Cut(piece, c.pairs)
			if name = strings.TrimSpace(name); !ok || name == "" {
				return nil, fmt.Errorf("%q is no name and value with %q between them", clip(piece), c.pairs)
			}
			if _, twice := out[name]; twice {
				return nil, fmt.Errorf("%q stands there twice", clip(name))
			}
			out[name] = strings.TrimSpace(text)
		}
		return out, nil
	case c.header && (len(row) > len(header) || len(row) < len(header) && !c.more):
		return nil, fmt.Errorf("%d column(s), where the first line names %d: %q", len(row), len(header), record())
	case !c.header && (len(row) < c.count || len(row) > c.count && !c.more):
		return nil, fmt.Errorf("%d column(s) between %q, where %d belong: %q", len(row), c.separator, c.count, record())
	}
	for i, piece := range row {
		name := strconv.Itoa(i + 1)
		if c.header {
			name = strings.TrimSpace(header[i])
			if _, twice := out[name]; twice {
				return nil, fmt.Errorf("the first line names %q twice", clip(name))
			}
		}
		out[name] = strings.TrimSpace(piece)
	}
	return out, nil
}

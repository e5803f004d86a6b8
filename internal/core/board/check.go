package board

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"nexocumula/internal/core/formula"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
)

// Bounds of a board, which its schema says too.
const (
	mostHead    = 60
	mostLanes   = 60
	mostSeries  = 50 // of a lane
	mostInputs  = 20
	longestName = 200 // characters, of titles and names
	longestText = 5000
	LeastHeight = 40
	MostHeight  = 1200
)

var (
	kinds   = []string{Chart, States, Growth, Bearing, Coverage, Notes, Text}
	draws   = []string{"", "line", "steps", "points"}
	compare = []string{"", "1d", "1w", "1y"}
	asks    = []string{"", "site", "station"}
	lasts   = []string{"last week", "last month", "last year"}
)

// Check says what is wrong with a board, with the place; nil when nothing is.
func Check(b *Board) error {
	c := checker{about: b.About}
	c.form(b)
	for i, h := range b.Head {
		at := fmt.Sprintf("head[%d]", i)
		c.name(at+".series", h.Series)
		c.length(at+".title", h.Title, longestName)
	}
	for i := range b.Lanes {
		c.lane(fmt.Sprintf("lanes[%d]", i), &b.Lanes[i])
	}
	return c.err
}

// checker keeps the first thing that is wrong.
type checker struct {
	about string
	asks  string
	err   error
}

func (c *checker) wrong(at, format string, args ...any) {
	if c.err == nil {
		c.err = fmt.Errorf("%s: %s", at, fmt.Sprintf(format, args...))
	}
}

func (c *checker) form(b *Board) {
	c.asks = b.Asks
	if b.Form != Form {
		c.wrong("form", "%q is not read here; write %q", b.Form, Form)
	}
	if strings.TrimSpace(b.Title) == "" {
		c.wrong("title", "it has none; write what the board is called")
	}
	c.length("title", b.Title, longestName)
	if b.About != "" {
		for level := range strings.SplitSeq(b.About, "/") {
			if err := series.CheckLevel(level); err != nil {
				c.wrong("about", "%q: name a site or a station, such as stony-beck/raceway-1; a level %v", b.About, err)
			}
		}
	}
	c.oneOf("asks", b.Asks, asks)
	if b.Asks != "" && b.About != "" {
		c.wrong("asks", "a board that asks for a place is about none; leave about out")
	}
	c.oneOf("compare", b.Compare, compare)
	c.time(b)
	if len(b.Head) > mostHead {
		c.wrong("head", "it has %d values; at most %d are shown", len(b.Head), mostHead)
	}
	if len(b.Lanes) > mostLanes {
		c.wrong("lanes", "there are %d; at most %d are shown", len(b.Lanes), mostLanes)
	}
}

func (c *checker) time(b *Board) {
	if r := b.Range; r != nil {
		given := 0
		for _, text := range []string{r.Last, r.Calendar, r.From + r.To} {
			if text != "" {
				given++
			}
		}
		if given != 1 || (r.From == "") != (r.To == "") {
			c.wrong("range", "give last, or calendar, or from and to")
		}
		from, wrongFrom := time.Parse(time.RFC3339, r.From)
		to, wrongTo := time.Parse(time.RFC3339, r.To)
		if r.From != "" && (wrongFrom != nil || wrongTo != nil || !from.Before(to)) {
			c.wrong("range", "from %q to %q: write two times such as 2026-03-01T08:00:00Z, the earlier first", r.From,
				r.To)
		}
		if r.Last != "" {
			if _, err := window.ParseStep(r.Last); err != nil {
				c.wrong("range.last", "%v", err)
			}
		}
		if r.Calendar != "" {
			if _, err := window.ParseRange(r.Calendar, time.Unix(0, 0).UTC()); err != nil ||
				strings.HasPrefix(r.Calendar, "last ") && !slices.Contains(lasts, r.Calendar) {
				c.wrong("range.calendar", "%q is none; write today, yesterday, or this or last week, month or year",
					r.Calendar)
			}
		}
	}
	if b.Zone != "" && b.Zone != "site" && b.Zone != "viewer" {
		if _, err := time.LoadLocation(b.Zone); err != nil || b.Zone == "Local" {
			c.wrong("zone", "%q is not known; write site, viewer, or an IANA name such as Europe/Lisbon", b.Zone)
		}
	}
	if b.Width != "" {
		if _, err := window.ParseStep(b.Width); err != nil {
			c.wrong("width", "%v", err)
		}
	}
	if b.Hours != "" {
		if _, err := window.ParseHours(b.Hours); err != nil {
			c.wrong("hours", "%v", err)
		}
	}
}

func (c *checker) lane(at string, l *Lane) {
	c.oneOf(at+".kind", l.Kind, kinds)
	c.length(at+".title", l.Title, longestName)
	c.length(at+".text", l.Text, longestText)
	c.oneOf(at+".draw", l.Draw, draws)
	if len(l.Series) > mostSeries {
		c.wrong(at+".series", "there are %d; a lane shows at most %d", len(l.Series), mostSeries)
	}
	for i, name := range l.Series {
		c.name(fmt.Sprintf("%s.series[%d]", at, i), name)
	}
	if len(l.Series) == 0 && l.Calculate == nil && l.Kind != Text && l.Kind != Notes {
		c.wrong(at+".series", "it is empty; name at least one series")
	}
	if l.Kind == Text && strings.TrimSpace(l.Text) == "" {
		c.wrong(at+".text", "it is empty")
	}
	if l.Stat != "" {
		if _, err := window.ParseStats(l.Stat); err != nil || strings.Contains(l.Stat, ",") {
			c.wrong(at+".stat", "%q is no stat; write one such as mean, max or p95~", l.Stat)
		}
	}
	if l.Height != 0 && (l.Height < LeastHeight || l.Height > MostHeight) {
		c.wrong(at+".height", "%d is not from %d to %d", l.Height, LeastHeight, MostHeight)
	}
	if l.Calculate != nil {
		c.calculation(at+".calculate", l.Calculate)
	}
}

func (c *checker) calculation(at string, calc *Calculation) {
	c.length(at+".name", calc.Name, longestName)
	if calc.Name == "" {
		c.wrong(at+".name", "it has none")
	}
	if len(calc.Inputs) == 0 || len(calc.Inputs) > mostInputs {
		c.wrong(at+".inputs", "there are %d; give 1 to %d", len(calc.Inputs), mostInputs)
	}
	for _, name := range slices.Sorted(maps.Keys(calc.Inputs)) {
		path, stat, given := strings.Cut(calc.Inputs[name], "@")
		c.name(at+".inputs."+name, path)
		if given {
			if _, err := window.ParseStats(stat); err != nil {
				c.wrong(at+".inputs."+name, "%v", err)
			}
		}
	}
	if _, err := formula.Parse(calc.Formula, slices.Sorted(maps.Keys(calc.Inputs))); err != nil {
		c.wrong(at+".formula", "%v", err)
	}
}

// name checks a path or a selector.
func (c *checker) name(at, text string) {
	about := c.about
	switch c.asks {
	case "site":
		about = "site"
	case "station":
		about = "site/station"
	}
	said, ok := At(text, about)
	if !ok {
		c.wrong(at, "%q needs a place; let the board ask for a site or a station, or say what it is about", text)
		return
	}
	if _, err := series.ParseSelector(said); err != nil {
		c.wrong(at, "%v", err)
	}
}

func (c *checker) length(at, text string, most int) {
	if n := utf8.RuneCountInString(text); n > most {
		c.wrong(at, "it has %d characters; at most %d are kept", n, most)
	}
	for _, r := range text {
		if unicode.IsControl(r) && r != '\n' && r != '\t' {
			c.wrong(at, "it holds the character %U, which cannot be seen; leave control characters out", r)
		}
	}
}

func (c *checker) oneOf(at, text string, known []string) {
	if !slices.Contains(known, text) {
		c.wrong(at, "%q is not known; write %s", text,
			strings.Join(slices.DeleteFunc(slices.Clone(known), func(s string) bool { return s == "" }), ", "))
	}
}

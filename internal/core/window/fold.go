package window

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// Fold lays windows of the same place in a day, a week or a year one upon the other: the
// mean day, week or year. A folded window is the sum of its windows, as if their time
// were one.
type Fold string

// The folds.
const (
	FoldDay  Fold = "day"  // by the time of day
	FoldWeek Fold = "week" // by the day of the week and the time
	FoldYear Fold = "year" // by the month and the day
)

// ParseFold reads day, week or year; the empty text is none.
func ParseFold(text string) (Fold, error) {
	switch f := Fold(text); f {
	case "", FoldDay, FoldWeek, FoldYear:
		return f, nil
	}
	return "", fmt.Errorf("fold %q: use day, week or year", text)
}

func (f Fold) check(g Grid) error {
	if f == "" {
		return nil
	}
	w := g.Width
	inDay := w.Fixed > 0 && wholeDay%w.Fixed == 0 && w.Fixed < wholeDay
	fits := map[Fold]bool{
		FoldDay:  inDay,
		FoldWeek: inDay || w == Step{Days: 1},
		FoldYear: inDay || w == Step{Days: 1} || w.Months > 0 && 12%w.Months == 0 && w.Months < 12,
	}
	switch {
	case w.IsZero():
		return fmt.Errorf("fold %s needs a width that goes into a %s, such as width=1h", f, f)
	case !fits[f]:
		return fmt.Errorf("fold %s: windows of %s do not have the same places in every %s; use a width such as %s", f, w, f, map[Fold]string{
			FoldDay:  "15m or 1h",
			FoldWeek: "1h or 1d",
			FoldYear: "1d or 1mo",
		}[f])
	case !g.Stride.IsZero() && g.Stride != w:
		return fmt.Errorf("fold %s: windows that overlap or have time between them cannot be folded; leave stride out",
			f)
	case g.Clipped:
		return fmt.Errorf("fold %s: windows that end with the range have no place in a %s; ask for whole windows", f, f)
	case g.Newest > 0:
		return fmt.Errorf("fold %s: newest says nothing of folded windows; leave it out, or ask for a shorter range", f)
	}
	return nil
}

// place returns where a window that begins at a time stands: a number to sort by. Whole days are
// the same whenever they begin, as after an hour that was left out.
func (f Fold) place(at time.Time, width Step) int {
	hour, minute, second := at.Clock()
	seconds := (hour*60+minute)*60 + second
	if width.Fixed == 0 {
		seconds = 0
	}
	switch {
	case f == FoldWeek:
		return (int(at.Weekday())+6)%7*86400 + seconds
	case f == FoldYear && width.Months > 0:
		return int(at.Month())
	case f == FoldYear:
		return (int(at.Month())*100+at.Day())*86400 + seconds
	}
	return seconds
}

// called returns the place for people.
func (f Fold) called(at time.Time, width Step) string {
	clock := "15:04"
	if width.Fixed%time.Minute != 0 {
		clock = "15:04:05"
	}
	switch {
	case f == FoldDay:
		return at.Format(clock)
	case f == FoldWeek && width.Days > 0:
		return at.Format("Mon")
	case f == FoldWeek:
		return at.Format("Mon " + clock)
	case width.Months > 0:
		return at.Format("Jan")
	case width.Days > 0:
		return at.Format("01-02")
	}
	return at.Format("01-02 " + clock)
}

// fold puts windows of one place together.
func (g Grid) fold(windows []Window) ([]Window, error) {
	type folded struct {
		Window
		order int
	}
	byPlace := map[int]*folded{}
	for _, w := range windows {
		at := time.Unix(0, w.From).In(g.Zone)
		order := g.Fold.place(at, g.Width)
		f := byPlace[order]
		if f == nil {
			f = &folded{Window{Span: w.Span, Pieces: []Span{}, Place: g.Fold.called(at, g.Width)}, order}
			byPlace[order] = f
		}
		f.To = max(f.To, w.To)
		if w.Pieces == nil {
			f.Pieces = append(f.Pieces, w.Span)
		} else {
			f.Pieces = append(f.Pieces, w.Pieces...)
		}
	}
	all := make([]*folded, 0, len(byPlace))
	for _, f := range byPlace {
		all = append(all, f)
	}
	slices.SortFunc(all, func(a, b *folded) int { return cmp.Compare(a.order, b.order) })
	out := make([]Window, len(all))
	for i, f := range all {
		out[i] = f.Window
	}
	return out, nil
}

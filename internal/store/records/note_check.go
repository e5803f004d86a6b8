package records

import (
	"cmp"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"nexocumula/internal/core/series"
	"nexocumula/internal/plain"
)

const (
	longestNote   = 2000 // characters
	longestAbout  = 500  // bytes
	longestAuthor = 200  // bytes
)

// Check says what is wrong with a note, as of a time.
func (n Note) Check(now time.Time) error {
	characters := utf8.RuneCountInString(n.Text)
	switch {
	case n.Text == "" || characters > longestNote:
		return fmt.Errorf("the text has %d characters; write 1 to %d", characters, longestNote)
	case plain.CheckText(strings.ReplaceAll(n.Text, "\n", " ")) != nil:
		return fmt.Errorf("the text: %w", plain.CheckText(strings.ReplaceAll(n.Text, "\n", " ")))
	}
	return n.checkPlace(now)
}

// checkPlace says what is wrong with a note besides its text.
func (n Note) checkPlace(now time.Time) error {
	switch {
	case len(n.About) > longestAbout:
		return fmt.Errorf("about has %d bytes; a path has at most %d", len(n.About), longestAbout)
	case n.At.After(now.Add(366*24*time.Hour)) || n.At.Before(time.Unix(0, 0)):
		return errors.New("a note is about a time after 1970 and before next year")
	}
	for level := range strings.SplitSeq(n.About, "/") {
		if err := series.CheckLevel(level); err != nil {
			return fmt.Errorf("about %q: name a site, a station or a series, such as stony-beck/raceway-1; a level %w",
				n.About, err)
		}
	}
	return nil
}

// Check says what is wrong with a note of another store.
func (n NoteVersion) Check(now time.Time) error {
	switch {
	case n.UID == "" || len(n.UID) > 64 || plain.CheckText(n.UID) != nil:
		return fmt.Errorf("its identity has %d bytes; 1 to 64 are possible", len(n.UID))
	case n.Version == 0 || n.Version > 1<<53:
		return fmt.Errorf("its version is %d; whole numbers from 1 are", n.Version)
	case len(n.Author) > longestAuthor || plain.CheckText(n.Author) != nil:
		return cmp.Or(plain.CheckText(n.Author),
			fmt.Errorf("its author has %d bytes; at most %d are possible", len(n.Author), longestAuthor))
	case n.Removed:
		return n.checkPlace(now)
	}
	return n.Note.Check(now)
}

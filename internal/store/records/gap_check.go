package records

import (
	"cmp"
	"fmt"
	"time"

	"nexocumula/internal/core/series"
	"nexocumula/internal/plain"
)

const longestDetail = 500 // bytes

// Check says what is wrong with a gap of another store.
func (g GapVersion) Check(now time.Time) error {
	_, pathErr := series.ParsePath(string(g.Series))
	latest := now.Add(366 * 24 * time.Hour)
	switch {
	case g.UID == "" || len(g.UID) > 64 || plain.CheckText(g.UID) != nil:
		return fmt.Errorf("its identity has %d bytes; 1 to 64 are possible", len(g.UID))
	case g.Version == 0 || g.Version > 1<<53:
		return fmt.Errorf("its version is %d; whole numbers from 1 are", g.Version)
	case pathErr != nil:
		return pathErr
	case g.From.Before(time.Unix(0, 0)) || g.From.After(latest) || g.To.After(latest) || !g.To.IsZero() && !g.To.After(g.From):
		return fmt.Errorf("it is from %s to %s; a gap ends after it begins, between 1970 and next year",
			g.From.Format(time.RFC3339), g.To.Format(time.RFC3339))
	case len(g.Detail) > longestDetail || len(g.Author) > longestAuthor || len(g.Of) > 20:
		return fmt.Errorf("its detail, its author and what it is of have %d, %d and %d bytes; at most %d, %d and 20 are possible",
			len(g.Detail), len(g.Author), len(g.Of), longestDetail, longestAuthor)
	}
	return cmp.Or(g.Cause.Check(), plain.CheckText(g.Detail), plain.CheckText(g.Author), plain.CheckText(g.Of))
}

// Clip returns a detail that is not too long to be kept.
func Clip(detail string) string {
	if len(detail) <= longestDetail {
		return detail
	}
	return detail[:longestDetail-3] + "..."
}

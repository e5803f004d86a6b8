package clock

import (
	"fmt"
	"sync"
	"time"
)

// Clock says what time it is. time.Now is one.
type Clock func() time.Time

// DefaultAway is how long a service may have been switched off, unless the
// configuration says otherwise.
const DefaultAway = 400 * 24 * time.Hour

// earliest is before any release of this program: a clock that stands there is not set.
var earliest = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

// slack is how far a clock may be set back without doubt, as when it is corrected.
const slack = 5 * time.Minute

// Judge compares a clock with the newest time at which something was written to disk.
// Its methods may be used at the same time.
type Judge struct {
	clock Clock
	away  time.Duration

	mu     sync.Mutex
	newest time.Time
}

// NewJudge judges the clock by the newest time on disk, zero when there is none.
func NewJudge(c Clock, newest time.Time, away time.Duration) *Judge {
	return &Judge{clock: c, newest: newest, away: away}
}

// Now returns the clock's time, believed or not.
func (j *Judge) Now() time.Time { return j.clock() }

// Newest returns the newest time on disk.
func (j *Judge) Newest() time.Time {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.newest
}

// Wrote notes that something was written now, unless now cannot be believed.
func (j *Judge) Wrote() {
	j.mu.Lock()
	defer j.mu.Unlock()
	if now := j.clock(); j.unset(now) == "" && now.After(j.newest) {
		j.newest = now
	}
}

// Unset is why the clock cannot be used to stamp anything, or "" when it can: it was
// never set, or it stands further ahead of the newest time on disk than the service can
// have been switched off.
func (j *Judge) Unset() string {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.unset(j.clock())
}

func (j *Judge) unset(now time.Time) string {
	switch {
	case now.Before(earliest):
		return fmt.Sprintf("the clock says %s, so it is not set; readings wait until it is",
			now.UTC().Format(time.RFC3339))
	case !j.newest.IsZero() && now.After(j.newest.Add(j.away)):
		return fmt.Sprintf("the clock says %s, but the newest time on disk is %s; readings wait until it is set right. If it is right, set away_for: to more than %s",
			now.UTC().Format(time.RFC3339), j.newest.UTC().Format(time.RFC3339), now.Sub(j.newest).Round(24*time.Hour))
	case !j.newest.IsZero() && now.Before(j.newest.Add(-j.away)):
		return fmt.Sprintf("the clock says %s, but the newest time on disk is %s; readings wait until it is set right",
			now.UTC().Format(time.RFC3339), j.newest.UTC().Format(time.RFC3339))
	}
	return ""
}

// Doubt is why nothing may be refused or dropped for its age, or "" when it may. A
// clock that stands before the newest time on disk was wrong, or is.
func (j *Judge) Doubt() string {
	j.mu.Lock()
	defer j.mu.Unlock()
	now := j.clock()
	if text := j.unset(now); text != "" {
		return text
	}
	if now.Before(j.newest.Add(-slack)) {
		return fmt.Sprintf("the clock says %s, before the newest time on disk, %s; until then nothing is refused or dropped for its age",
			now.UTC().Format(time.RFC3339), j.newest.UTC().Format(time.RFC3339))
	}
	return ""
}

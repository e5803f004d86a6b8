package modbus

import "time"

// spare is the time that a line may waste on units that do not answer, as a share of all
// time. What was wasted without having been saved is owed.
type spare struct {
	share float64
	saved time.Duration
	at    time.Time
}

func (s *spare) now(now time.Time, most time.Duration) time.Duration {
	if !s.at.IsZero() {
		s.saved = min(s.saved+time.Duration(s.share*float64(now.Sub(s.at))), most)
	}
	s.at = now
	return s.saved
}

// mostOwed bounds how long a line that went silent as a whole is held to it.
const mostOwed = 10

func (s *spare) waste(took, timeout time.Duration) {
	s.saved = max(s.saved-took, -mostOwed*timeout)
}

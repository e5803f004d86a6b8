package central

import (
	"fmt"
	"slices"
	"time"

	"nexocumula/internal/store/records"
	"nexocumula/internal/wire"
)

// sessions tells the processes that send under one name apart. One at a time may: the
// last that began. Another that goes on sending is refused and reported; should the one
// that may fall silent, it may again. Callers hold the link's mu.
type sessions struct {
	current string
	number  uint64 // of its last request
	stored  uint64 // of the gateway, with its last batch
	heardAt time.Time
	retired []records.Session
	dropped uint64 // stored when the newest ended that retired does not name any more

	twinAt   time.Time // when another was last refused
	twinFrom string
}

const (
	mostRetired = 8
	twinStands  = time.Minute     // how long a twin is reported after it was last heard
	takesOver   = 2 * time.Minute // how long the current one has to be silent
)

// admit decides whether a request counts. One that was overtaken by a later one of its
// session must not: it would put older summaries over newer ones.
func (s *sessions) admit(session string, number uint64, from string, now time.Time) error {
	if session != s.current {
		if slices.ContainsFunc(s.retired, func(one records.Session) bool { return one.ID == session }) &&
			now.Sub(s.heardAt) < takesOver {
			s.twinAt, s.twinFrom = now, from
			return no(wire.CodeTwin,
				"another process sends under this gateway's name since %s; stop one of the two, or give it a name of its own",
				s.heardAt.UTC().Format(time.RFC3339))
		}
		s.begin(session)
	}
	if number <= s.number {
		return no(wire.CodeOld, "request %d came after request %d of the same session", number, s.number)
	}
	s.number, s.heardAt = number, now
	return nil
}

func (s *sessions) begin(session string) {
	before := uint64(0)
	s.retired = slices.DeleteFunc(slices.Clone(s.retired), func(one records.Session) bool {
		if one.ID == session {
			before = one.Stored
		}
		return one.ID == session
	})
	if s.current != "" {
		s.retired = append(s.retired, records.Session{ID: s.current, Stored: s.stored})
	}
	for len(s.retired) > mostRetired {
		s.dropped = max(s.dropped, s.retired[0].Stored)
		s.retired = s.retired[1:]
	}
	s.current, s.number, s.stored = session, 0, before
}

// since names the sessions besides the current one that stored batches after so many had
// been stored; ok is false when not all of them are remembered.
func (s *sessions) since(stored uint64) (others []string, ok bool) {
	for _, one := range s.retired {
		if one.Stored > stored {
			others = append(others, one.ID)
		}
	}
	return others, s.dropped <= stored
}

// twin says that another process was heard lately; empty when none was.
func (s *sessions) twin(now time.Time) string {
	if s.twinAt.IsZero() || now.Sub(s.twinAt) > twinStands {
		return ""
	}
	return fmt.Sprintf("another process sends under the same name, from %s, last at %s; it is refused", s.twinFrom,
		s.twinAt.UTC().Format(time.RFC3339))
}

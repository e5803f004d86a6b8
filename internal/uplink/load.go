package uplink

import (
	"context"
	"slices"

	"nexocumula/internal/replica"
	"nexocumula/internal/store/records"
	"nexocumula/internal/wire"
)

// gather takes marks out, up to most summaries: the present first, but leaving a quarter
// to the backlog, so that neither holds up the other. Some carriers want what waited before what is new.
func (s *Sender) gather(ctx context.Context, most int) (Load, error) {
	var l Load
	if err := s.addRecords(&l); err != nil {
		return l, err
	}
	if !inOrder(s.carrier) {
		if err := s.fill(ctx, &l, true, most-most/4); err != nil {
			return l, err
		}
	}
	if err := s.fill(ctx, &l, false, most); err != nil {
		return l, err
	}
	return l, s.fill(ctx, &l, true, most)
}

// inOrder reports whether a carrier wants what waited before what is new.
func inOrder(c Carrier) bool {
	ordered, ok := c.(interface{ InOrder() bool })
	return ok && ordered.InOrder()
}

// mostMarks bounds the marks of a batch: those of nothing cost time too.
const mostMarks = 20_000

func (s *Sender) fill(ctx context.Context, l *Load, fresh bool, most int) error {
	for range mostMarks {
		if l.Rows >= most {
			return nil
		}
		m, ok := s.outbox.Take(fresh)
		if !ok {
			return nil
		}
		run, next, err := replica.ReadRows(context.WithoutCancel(ctx), s.store, m, most-l.Rows)
		if err != nil {
			return err
		}
		s.outbox.Shorten(next, run.Len())
		if run.Len() > 0 {
			l.Runs, l.Of = append(l.Runs, run), append(l.Of, m.Of)
			l.Rows += run.Len()
		}
	}
	return nil
}

// sendsKind reports whether the uplink sends records of a kind. Those without which the others mean nothing always go.
func (s *Sender) sendsKind(name string) bool {
	return s.settings.Records == nil || name == records.RenamesKind || name == records.AnswersKind ||
		slices.Contains(s.settings.Records, name)
}

// mostRecords of a kind go into one batch: they are few, and small.
const mostRecords = 200

// addRecords adds those that changed since the last that the central has.
func (s *Sender) addRecords(l *Load) error {
	for _, kind := range s.kinds {
		if !s.sendsKind(kind.Name) {
			continue
		}
		changed, err := kind.Since(s.outbox.SentTo(kind.Name), mostRecords)
		if err != nil {
			return err
		}
		for _, one := range changed {
			if one.To == s.settings.Name || one.To == "" && s.outbox.Mine(one.About) {
				if l.Records == nil {
					l.Records = wire.Records{}
				}
				l.Records[kind.Name] = append(l.Records[kind.Name], one.Wire)
			}
			s.outbox.TakeRecords(kind.Name, one.Change)
		}
	}
	return nil
}

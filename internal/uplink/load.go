package uplink

import (
	"context"
	"slices"

	"nexocumula/internal/core/series"
	"nexocumula/internal/replica"
	"nexocumula/internal/store/records"
	"nexocumula/internal/wire"
)

// gather takes marks out, up to most summaries: the present first, but leaving a quarter
// to the backlog, so that neither holds up the other. Some carriers want what waited before what is new.
func (s *Sender) gather(ctx context.Context, most int) (Load, error) {
	var l Load
	if left, limited := s.meter.Left(); limited && left == 0 {
		return l, s.fillImportant(ctx, &l, most)
	}
	if err := s.addRecords(&l); err != nil {
		return l, err
	}
	if hours := s.settings.Limits.Backlog; hours != nil && !hours.In(s.meter.now()) {
		return l, s.fill(ctx, &l, true, most)
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

// fillImportant takes only what is important of the present, as the day or the month is used up.
func (s *Sender) fillImportant(ctx context.Context, l *Load, most int) error {
	if len(s.settings.Limits.Important) == 0 {
		return nil
	}
	return s.fillOf(ctx, l, true, most, func(p series.Path) bool {
		return slices.ContainsFunc(s.settings.Limits.Important, func(of series.Selector) bool { return of.Match(p) })
	})
}

func (s *Sender) fill(ctx context.Context, l *Load, fresh bool, most int) error {
	return s.fillOf(ctx, l, fresh, most, nil)
}

func (s *Sender) fillOf(ctx context.Context, l *Load, fresh bool, most int, only func(series.Path) bool) error {
	for range mostMarks {
		if l.Rows >= most {
			return nil
		}
		m, ok := s.outbox.TakeOf(fresh, only)
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

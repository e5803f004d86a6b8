package uplink

import (
	"context"

	"nexocumula/internal/core/marks"
	"nexocumula/internal/replica"
	"nexocumula/internal/wire"
)

// load is the content of one batch: runs, and what each is about, and records.
type load struct {
	runs    []wire.Run
	of      []marks.Of // of runs[i]
	rows    int
	records wire.Records
}

func (l *load) empty() bool { return l.rows == 0 && len(l.records) == 0 }

// gather takes marks out, up to most summaries: the present first, but leaving a quarter
// to the backlog, so that neither holds up the other.
func (s *Sender) gather(ctx context.Context, most int) (load, error) {
	var l load
	if err := s.addRecords(&l); err != nil {
		return l, err
	}
	if err := s.fill(ctx, &l, true, most-most/4); err != nil {
		return l, err
	}
	if err := s.fill(ctx, &l, false, most); err != nil {
		return l, err
	}
	return l, s.fill(ctx, &l, true, most)
}

// mostMarks bounds the marks of a batch: those of nothing cost time too.
const mostMarks = 20_000

func (s *Sender) fill(ctx context.Context, l *load, fresh bool, most int) error {
	for range mostMarks {
		if l.rows >= most {
			return nil
		}
		m, ok := s.outbox.Take(fresh)
		if !ok {
			return nil
		}
		run, next, err := replica.ReadRows(context.WithoutCancel(ctx), s.store, m, most-l.rows)
		if err != nil {
			return err
		}
		s.outbox.Shorten(next, run.Len())
		if run.Len() > 0 {
			l.runs, l.of = append(l.runs, run), append(l.of, m.Of)
			l.rows += run.Len()
		}
	}
	return nil
}

// mostRecords of a kind go into one batch: they are few, and small.
const mostRecords = 200

// addRecords adds those that changed since the last that the central has.
func (s *Sender) addRecords(l *load) error {
	for _, kind := range s.kinds {
		changed, err := kind.Since(s.outbox.SentTo(kind.Name), mostRecords)
		if err != nil {
			return err
		}
		for _, one := range changed {
			if s.outbox.Mine(one.About) {
				if l.records == nil {
					l.records = wire.Records{}
				}
				l.records[kind.Name] = append(l.records[kind.Name], one.Wire)
			}
			s.outbox.TakeRecords(kind.Name, one.Change)
		}
	}
	return nil
}

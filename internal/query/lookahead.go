package query

import (
	"context"
	"iter"

	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store/engine"
)

// readAtOnce is how many series are read of at once.
const readAtOnce = 128

// lookahead reads what the scans of the next series will need, some at once, and where a processor is free the
// next some while these are reduced. One that is nil reads nothing ahead.
type lookahead struct {
	ctx    context.Context
	src    Source
	stats  []window.Stat
	pull   func() (engine.Series, *window.Plan, bool) // what will be reduced, in this order
	end    func()
	left   int // of those that were read of
	now    prefetched
	next   prefetched
	count  int           // of the series that come next
	read   func()        // reads of them; nil before the first
	beside chan struct{} // closed when that was done beside other work; nil: it is not done yet
}

// prefetched is what was read, or why it could not be.
type prefetched struct {
	of  map[alike]*engine.Prefetch
	err error
}

// alike are series whose scans want the same.
type alike struct {
	plan *window.Plan
	kind series.Kind
}

// newLookahead reads ahead of what will be reduced in this order. Close it.
func newLookahead(ctx context.Context, src Source, stats []window.Stat, order iter.Seq2[engine.Series, *window.Plan]) *lookahead {
	pull, end := iter.Pull2(order)
	return &lookahead{ctx: ctx, src: src, stats: stats, pull: pull, end: end}
}

// step goes on to the next series to be reduced.
func (l *lookahead) step() error {
	if l.left--; l.left >= 0 {
		return nil
	}
	if l.read == nil {
		l.prepare()
	}
	if l.beside == nil {
		l.read()
	} else {
		<-l.beside
	}
	if l.next.err != nil {
		return l.next.err
	}
	l.now, l.left = l.next, l.count-1
	l.prepare()
	l.readBeside()
	return nil
}

// prepare gathers what comes next.
func (l *lookahead) prepare() {
	next := map[alike][]engine.Series{}
	for l.count = 0; l.count < readAtOnce; l.count++ {
		s, plan, ok := l.pull()
		if !ok {
			break
		}
		key := alike{plan, s.Kind}
		next[key] = append(next[key], s)
	}
	l.next, l.beside = prefetched{of: map[alike]*engine.Prefetch{}}, nil
	l.read = func() {
		for key, same := range next {
			ids := make([]uint32, len(same))
			for i, s := range same {
				ids[i] = s.ID
			}
			read, err := l.src.Store.Prefetch(l.ctx, ids, firstWanted(&same[0], key.plan, l.stats))
			if err != nil {
				l.next.err = err
				return
			}
			l.next.of[key] = read
		}
	}
}

// readBeside reads of the next series now, where a processor is free for it.
func (l *lookahead) readBeside() {
	if l.src.Beside == nil || l.count < 2 {
		return
	}
	done, read := make(chan struct{}), l.read
	if l.src.Beside(func() { defer close(done); read() }) {
		l.beside = done
	}
}

// of returns what was read of such a series, if anything.
func (l *lookahead) of(s *engine.Series, plan *window.Plan) *engine.Prefetch {
	if l == nil {
		return nil
	}
	return l.now.of[alike{plan, s.Kind}]
}

// close ends it. Nothing is read any more.
func (l *lookahead) close() {
	if l.beside != nil {
		<-l.beside
	}
	l.end()
}

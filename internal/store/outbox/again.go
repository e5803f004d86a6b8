package outbox

import (
	"time"

	"nexocumula/internal/core/marks"
	"nexocumula/internal/store/engine"
)

// Mark marks what is to be sent again.
func (o *Outbox) Mark(m marks.Mark) {
	o.mu.Lock()
	defer o.mu.Unlock()
	m.Since = o.boxes.judge.Now().UnixNano()
	o.backlog.Add(m)
	o.wakeUp()
}

// MarkDefinition has the definition of a series go again, with its last summary.
func (o *Outbox) MarkDefinition(known engine.Series) {
	o.addLast([]engine.Series{known}, o.boxes.judge.Now().UnixNano())
}

// MarkRecords has all records of a kind go again.
func (o *Outbox) MarkRecords(kind string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	delete(o.records.acked, kind)
	o.wakeUp()
}

// Waits reports whether anything of this is marked that starts within a time.
func (o *Outbox) Waits(of marks.Of, from, to int64) (waits bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if swept := o.row.SweepNext; swept != 0 && of.Series >= swept && of.Series <= o.row.SweepLast {
		return true
	}
	o.each(func(m marks.Mark) { waits = waits || m.Of == of && m.From < to && m.To > from })
	return waits
}

// AskFor marks readings of a series that somebody asked for.
func (o *Outbox) AskFor(id uint32, from, to int64, rows int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.backlog.Add(marks.Mark{
		Of:   marks.Of{Kind: marks.Asked, Series: id},
		Span: marks.Span{From: from, To: to, Rows: rows, Since: o.boxes.judge.Now().UnixNano()},
	})
	o.wakeUp()
}

// AskedLeft returns about how many readings of a series are marked between two times, and whether any are.
func (o *Outbox) AskedLeft(id uint32, from, to int64) (rows int, any bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.each(func(m marks.Mark) {
		if m.Kind == marks.Asked && m.Series == id && m.From < to && m.To > from {
			rows, any = rows+m.Rows, true
		}
	})
	return rows, any
}

// Follow has the readings of a series between two times sent as they are made.
func (o *Outbox) Follow(id uint32, from, to int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.followed == nil {
		o.followed = map[uint32]marks.Span{}
	}
	if before, ok := o.followed[id]; ok {
		from, to = min(from, before.From), max(to, before.To)
	}
	o.followed[id] = marks.Span{From: from, To: to}
}

// follow marks readings that are being followed. mu is held.
func (o *Outbox) follow(e engine.Entry, since int64) {
	span, ok := o.followed[e.Series]
	if !ok {
		return
	}
	if o.boxes.judge.Now().UnixNano() > span.To+int64(followedLate) {
		delete(o.followed, e.Series)
		return
	}
	if rows := e.Rows.Between(span.From, span.To); rows.Len() > 0 {
		o.fresh.Add(marks.Mark{
			Of:   marks.Of{Kind: marks.Asked, Series: e.Series},
			Span: marks.Span{From: rows.Times[0], To: rows.Times[rows.Len()-1] + 1, Rows: rows.Len(), Since: since},
		})
	}
}

// followedLate is how long after the end of what is followed its last readings may come.
const followedLate = time.Minute

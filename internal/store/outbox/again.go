package outbox

import (
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

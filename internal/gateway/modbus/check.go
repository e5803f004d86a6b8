package modbus

import (
	"context"
	"fmt"
	"time"

	"nexocumula/internal/gateway/modbus/planner"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/plain"
)

// Check reads every register once. What a device refuses together is asked for one by one.
func (m *poller) Check(ctx context.Context) (out source.Check) {
	defer m.line.close()
	silent := map[uint8]bool{}
	trouble := func(r request, text string) {
		out.Wrong = append(out.Wrong, source.Fault{Place: r.String(), Text: text})
	}
	for _, t := range m.tasks {
		for i := range t.wants {
			w := &t.wants[i]
			queue := w.wish.Reads(&planner.Facts{}, time.Now())
			for len(queue) > 0 && ctx.Err() == nil && !silent[t.unit.id] {
				read := queue[0]
				queue = queue[1:]
				r := request{t.unit.id, w.table, read.First, read.Count}
				words, err := m.line.ask(ctx, r, m.settings.timeout)
				switch {
				case err == nil:
					m.checked(t, w, read, words)
				case isException(err) && !isAbsent(err) && len(read.Values) > 1:
					for _, one := range read.Values {
						v := w.wish.Values[one]
						queue = append(queue, planner.Read{First: v.First, Count: v.Words, Values: []int{one}})
					}
				case isException(err) && !isAbsent(err):
					trouble(r, fmt.Sprintf("the device answers %q", err))
				default:
					silent[t.unit.id] = true
					trouble(r, plain.Network(err).Error())
				}
			}
		}
		m.settleScaled(t)
		out.Readings = append(out.Readings, t.brought.Readings...)
		out.Rejects = append(out.Rejects, t.brought.Rejects...)
		t.brought = brought{}
	}
	for id := range m.units {
		if !silent[id] {
			out.Good = append(out.Good, fmt.Sprintf("unit %d answers", id))
		}
	}
	return out
}

// checked decodes what a read brought.
func (m *poller) checked(t *task, w *want, read planner.Read, words []uint16) {
	at := time.Now().UnixNano()
	for _, i := range read.Values {
		r := w.registers[i]
		m.place(t, r, words[int(r.address)-read.First:][:r.as.words], at)
	}
}

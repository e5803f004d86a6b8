package modbus

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"nexocumula/internal/gateway/source"
)

// demand is somebody who wants a group read now.
type demand struct {
	group string
	done  chan result
}

// result is the outcome of reading one unit.
type result struct {
	Readings, Rejects int
	Failed            []string
}

// Read reads a group now, of all units, or everything, and waits for it.
func (m *poller) Read(ctx context.Context, group string) (out source.Outcome, err error) {
	known := make([]string, 0, len(m.settings.groups))
	tasks := 0
	for _, g := range m.settings.groups {
		known = append(known, g.name)
	}
	if group != "" && !slices.Contains(known, group) {
		return out, source.NoGroup(fmt.Sprintf("source %s has no group %q; it has %s", m.name, group,
			strings.Join(known, ", ")))
	}
	for _, t := range m.tasks {
		if group == "" || t.group.name == group {
			tasks++
		}
	}
	d := demand{group, make(chan result, tasks)}
	select {
	case m.demands <- d:
	case <-m.ended:
		return source.Outcome{Failed: []string{"the source has ended"}}, nil
	case <-ctx.Done():
		return out, ctx.Err()
	}
	for range tasks {
		select {
		case r := <-d.done:
			out.Readings += r.Readings
			out.Rejects += r.Rejects
			out.Failed = append(out.Failed, r.Failed...)
		case <-m.ended:
			out.Failed = append(out.Failed, "the source has ended")
			return out, nil
		case <-ctx.Done():
			return out, ctx.Err()
		}
	}
	return out, nil
}

// demand makes the tasks of a group due. Who asks for one that is asked for already is told
// at once that it is.
func (m *poller) demand(d demand) {
	now := time.Now()
	m.current = nil
	for _, t := range m.tasks {
		if d.group != "" && t.group.name != d.group {
			continue
		}
		if t.asked != nil {
			d.done <- result{Failed: []string{fmt.Sprintf("unit %d: is being read for somebody else", t.unit.id)}}
			continue
		}
		t.asked = d.done
		if t.unit.silent != nil {
			t.unit.silent.next = now
			m.answerDemand(t, fmt.Sprintf("unit %d does not answer; it is being asked again", t.unit.id))
			continue
		}
		if t.due.IsZero() || t.due.After(now) {
			t.due = now
		}
	}
}

// answerDemand tells who waits for a task what came of it; failed is why nothing did.
func (m *poller) answerDemand(t *task, failed string) {
	if t.asked == nil {
		return
	}
	if failed != "" {
		t.got.Failed = append(t.got.Failed, failed)
	}
	t.asked <- t.got
	t.asked = nil
}

package modbus

import (
	"slices"
	"time"

	"nexocumula/internal/gateway/source"
)

// Plan forecasts the requests of the schedules: with devices that give everything together, or as they do
// by what a gateway has learned of them.
func (m *poller) Plan() (out source.Planned) {
	if m.pipe != nil {
		m.recall()
	}
	request, word := m.settings.address.cost()
	for _, t := range m.tasks {
		if t.group.every == 0 {
			continue
		}
		perHour := float64(time.Hour) / float64(t.group.every)
		for i := range t.wants {
			w := &t.wants[i]
			for _, r := range w.wish.Reads(&t.unit.table(w.table).Facts, time.Now()) {
				out.Requests += perHour
				if m.settings.address.framed {
					out.Busy += perHour * (request + word*float64(r.Count) + m.pause.span.Seconds()) / 3600
				}
			}
		}
	}
	for _, g := range m.settings.groups {
		if g.every > 0 && slices.ContainsFunc(m.tasks, func(t *task) bool { return t.group.name == g.name }) {
			out.Points = append(out.Points, float64(time.Hour)/float64(g.every))
		}
	}
	for _, r := range m.settings.registers {
		for _, g := range m.settings.groups {
			if g.name == r.group {
				out.Series = append(out.Series, source.PlannedSeries{Path: r.series, Every: g.every})
			}
		}
	}
	return out
}

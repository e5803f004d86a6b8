package fieldwork

import (
	"fmt"
	"strings"

	"nexocumula/client"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/modbus/probe"
	"nexocumula/internal/gateway/payload"
	"nexocumula/internal/gateway/watch"
)

const mostLines = 5000 // topics, or registers

// Lines writes the lines that would collect topics, or read registers.
func Lines(want client.LinesFor) (out client.Lines, err error) {
	if want.Name == "" {
		want.Name = "new"
	}
	if err := series.CheckLevel(want.Name); err != nil {
		return out, wrong("the name of the source %w", err)
	}
	if n := len(want.Topics) + len(want.Registers); n == 0 || n > mostLines ||
		len(want.Topics) > 0 && len(want.Registers) > 0 {
		return out, wrong("%d topics and %d registers are given; lines are written for 1 to %d of one kind",
			len(want.Topics), len(want.Registers), mostLines)
	}
	if len(want.Registers) > 0 {
		return registerLines(want)
	}
	topics := make([]watch.Topic, len(want.Topics))
	for i, t := range want.Topics {
		topics[i] = watch.Topic{
			Name:   t.Topic,
			Last:   t.Last,
			Guess:  payload.GuessOf(t.Topic, t.Last),
			Notice: watch.Notice(t.TopicNotice),
		}
	}
	got := watch.Propose(topics)
	out = client.Lines{Rules: got.Rules, Skipped: append([]string{}, got.Skipped...)}
	if got.Sparkplug {
		out.Below = "sparkplug: {}\n"
	}
	if got.Messages != "" {
		out.Below += "messages:\n" + indented(got.Messages, 2)
	}
	if want.Address != "" && out.Below != "" {
		out.Sources = fmt.Sprintf("- name: %s\n  mqtt_broker:\n    address: %s\n%s", want.Name, want.Address,
			indented(out.Below, 4))
	}
	return out, nil
}

func registerLines(want client.LinesFor) (client.Lines, error) {
	for _, r := range want.Registers {
		if _, err := series.ParsePath("site/" + r.Series); err != nil || !strings.Contains(r.Series, "/") {
			return client.Lines{}, wrong("%q: write station/quantity, such as pump-1/flow", r.Series)
		}
	}
	out := client.Lines{
		Below:   "registers:\n" + indented(probe.Registers(want.Unit, want.Table, want.Registers), 2),
		Rules:   probe.Rules(want.Registers),
		Skipped: []string{},
	}
	if want.Address != "" {
		out.Sources = fmt.Sprintf("- name: %s\n  modbus:\n    address: %s\n%s", want.Name, want.Address,
			indented(out.Below, 4))
	}
	return out, nil
}

func indented(lines string, by int) string {
	var out strings.Builder
	for line := range strings.Lines(lines) {
		out.WriteString(strings.Repeat(" ", by) + line)
	}
	return out.String()
}

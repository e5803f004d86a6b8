package mqtt

import (
	"context"
	"fmt"
	"net"
	"sync"
	"time"

	"nexocumula/internal/gateway/payload"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/plain"
)

// Check takes in what the broker carries of the configured topics until ctx ends: of each series
// the last.
func (b *broker) Check(ctx context.Context) (out source.Check) {
	var mu sync.Mutex
	var wait sync.WaitGroup
	heard := 0
	for _, filter := range b.settings.filters() {
		wait.Go(func() {
			err := b.Look(ctx, filter, func(topic string, raw []byte, retained bool) {
				got := b.messages.Decode(payload.Arrived{
					Topic:    topic,
					Payload:  raw,
					At:       time.Now().UnixNano(),
					Retained: retained,
				})
				mu.Lock()
				defer mu.Unlock()
				heard++
				out.Readings, out.Rejects = append(out.Readings, got.Readings...), append(out.Rejects, got.Rejects...)
			})
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				out.Wrong = append(out.Wrong, source.Fault{Place: filter, Text: err.Error()})
			}
		})
	}
	wait.Wait()
	if len(out.Wrong) == 0 {
		out.Good = append(out.Good, fmt.Sprintf("the broker grants the topics; %d message(s) came", heard))
	}
	return out
}

// Check finds out whether devices could connect.
func (l *listener) Check(context.Context) (out source.Check) {
	open, err := net.Listen("tcp", l.settings.address)
	if err != nil {
		out.Wrong = append(out.Wrong, source.Fault{
			Place: l.settings.address,
			Text: fmt.Sprintf("listening for MQTT: %v; or is it the gateway itself that runs already?",
				plain.Network(err)),
		})
		return out
	}
	open.Close()
	out.Good = append(out.Good, "devices can connect at "+l.settings.address)
	return out
}

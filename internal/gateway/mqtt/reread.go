package mqtt

import (
	"nexocumula/internal/core/reading"
	"nexocumula/internal/gateway/payload"
)

// Reread reads a payload of a topic as if it had just come from the broker.
func (b *broker) Reread(topic string, raw []byte, at int64) ([]reading.Reading, []reading.Reject) {
	return reread(b.messages, topic, raw, at)
}

// Reread reads a payload of a topic as if a device had just sent it.
func (l *listener) Reread(topic string, raw []byte, at int64) ([]reading.Reading, []reading.Reject) {
	return reread(l.messages, topic, raw, at)
}

func reread(messages *payload.Messages, topic string, raw []byte, at int64) ([]reading.Reading, []reading.Reject) {
	got := messages.Decode(payload.Arrived{Topic: topic, Payload: raw, At: at})
	return got.Readings, got.Rejects
}

package main

import (
	"fmt"
	"time"

	"google.golang.org/protobuf/proto"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/gateway/sparkplug"
	"nexocumula/internal/gateway/sparkplug/wire"
)

// decodeSparkplug returns how many messages a second become readings, with their names from the
// birth, beside the parser of protocol buffers alone.
func decodeSparkplug(string) (Row, error) {
	var keys sparkplug.Keys
	f, at, err := shape.Read("bench.yaml", []byte("{ host: bench }"), &keys)
	if err != nil {
		return Row{}, err
	}
	settings := keys.Check(at, "long-mere")
	if err := f.Err(); err != nil {
		return Row{}, err
	}
	host := sparkplug.NewHost("bench", settings)
	now := time.Now()
	birth := &wire.Payload{Timestamp: proto.Uint64(uint64(now.UnixMilli())), Seq: proto.Uint64(0)}
	data := &wire.Payload{Timestamp: birth.Timestamp}
	for i, name := range []string{"t1", "t2", "oxygen", "battery"} {
		alias := proto.Uint64(uint64(i + 1))
		value := &wire.Metric_DoubleValue{DoubleValue: 12.5 + float64(i)}
		birth.Metrics = append(birth.Metrics, &wire.Metric{
			Name:     proto.String(name),
			Alias:    alias,
			Datatype: proto.Uint32(10),
			Value:    value,
		})
		data.Metrics = append(data.Metrics, &wire.Metric{Alias: alias, Timestamp: data.Timestamp, Value: value})
	}
	var messages [256][]byte // one for each number
	for i := range messages {
		data.Seq = proto.Uint64(uint64(i))
		if messages[i], err = proto.Marshal(data); err != nil {
			return Row{}, err
		}
	}
	body, err := proto.Marshal(birth)
	if err != nil {
		return Row{}, err
	}
	host.Take("spBv1.0/mere/NBIRTH/gate", body, now.UnixNano())
	var p pairs
	seq := 0
	for range 3 * rounds {
		begun := time.Now()
		for range decoded {
			seq = (seq + 1) % 256
			if got := host.Take("spBv1.0/mere/NDATA/gate", messages[seq], now.UnixNano()); len(got.Readings) != 4 ||
				len(got.Faults) > 0 {
				return Row{}, fmt.Errorf("%d readings came: %v %v", len(got.Readings), got.Rejects, got.Faults)
			}
		}
		ours := decoded / time.Since(begun).Seconds()
		begun = time.Now()
		for i := range decoded {
			var parsed wire.Payload
			if err := proto.Unmarshal(messages[i%256], &parsed); err != nil {
				return Row{}, err
			}
		}
		p.add(ours, decoded/time.Since(begun).Seconds())
	}
	return p.row("messages/s", 1, "the parser library alone, into the same messages", ">= 0.5",
		func(ratio float64) bool { return ratio >= 0.5 }), nil
}

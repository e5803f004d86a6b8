package mqtt

import (
	"bytes"
	"errors"
	"sync"
	"time"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/packets"
)

// acker writes the acknowledgements of one MQTT client from a goroutine of its own,
// so that a device that reads slowly holds up nobody else, and all that gathered
// since the last write go out in one.
type acker struct {
	client *mqtt.Client

	mu      sync.Mutex
	waiting []ack
	closed  bool
	wake    chan struct{} // room for one: something changed
}

type ack struct {
	qos byte
	id  uint16
}

func newAcker(cl *mqtt.Client) *acker {
	a := &acker{client: cl, wake: make(chan struct{}, 1)}
	go a.run()
	return a
}

// mostAcks bounds what a client can leave unread: it has no more packet identifiers.
const mostAcks = 1 << 16

// ack queues an acknowledgement, in the order of the messages (MQTT 5.0, 4.6).
func (a *acker) ack(qos byte, id uint16) {
	a.mu.Lock()
	a.waiting = append(a.waiting, ack{qos, id})
	tooMany := len(a.waiting) > mostAcks
	a.mu.Unlock()
	if tooMany {
		go a.client.Stop(errNeverReads)
		return
	}
	a.signal()
}

var errNeverReads = errors.New("it does not read its acknowledgements")

func (a *acker) close() {
	a.mu.Lock()
	a.closed = true
	a.mu.Unlock()
	a.signal()
}

func (a *acker) signal() {
	select {
	case a.wake <- struct{}{}:
	default:
	}
}

func (a *acker) run() {
	var spare []ack
	var out bytes.Buffer
	for range a.wake {
		a.mu.Lock()
		now, closed := a.waiting, a.closed
		a.waiting = spare[:0]
		a.mu.Unlock()
		out.Reset()
		for _, k := range now {
			a.encode(&out, k)
		}
		spare = now
		if err := a.write(out.Bytes()); err != nil {
			a.client.Stop(err)
		}
		if closed {
			return
		}
	}
}

// encode writes the PUBACK or PUBREC of one message.
func (a *acker) encode(out *bytes.Buffer, k ack) {
	pk := packets.Packet{
		ProtocolVersion: a.client.Properties.ProtocolVersion,
		FixedHeader:     packets.FixedHeader{Type: packets.Puback},
		PacketID:        k.id,
		Created:         time.Now().Unix(),
	}
	if k.qos == 1 {
		_ = pk.PubackEncode(out) // a bytes.Buffer takes everything
		return
	}
	pk.FixedHeader.Type = packets.Pubrec
	a.client.State.Inflight.Set(pk) // so that the PUBREL that follows is known
	_ = pk.PubrecEncode(out)
}

// write holds the client's lock as the library does around its own writes.
func (a *acker) write(data []byte) error {
	if len(data) == 0 || a.client.Closed() {
		return nil
	}
	a.client.Lock()
	defer a.client.Unlock()
	_, err := a.client.Net.Conn.Write(data)
	return err
}

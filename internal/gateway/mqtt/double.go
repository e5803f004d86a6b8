package mqtt

import (
	"fmt"
	"sync"

	mqtt "github.com/mochi-mqtt/server/v2"
)

// Messages of QoS 2 that are on disk and acknowledged by a PUBREC wait for the sender's PUBREL. The library keeps
// about a kilobyte for each, also of clients that are gone and may come back to their session.
const (
	mostUnreleased    = 1024   // of a client
	mostUnreleasedAll = 16_384 // of all
	countEvery        = 256    // messages; counting all costs time
)

// unreleased says why a client may send no more messages of QoS 2; "" while it may.
func (l *listener) unreleased(cl *mqtt.Client) string {
	if n := cl.State.Inflight.Len() + l.doubles.count(cl.ID); n >= mostUnreleased {
		return fmt.Sprintf("has %d messages of QoS 2 that it does not release (PUBREL); it was sent away", n)
	}
	if l.sinceCount.Add(1)%countEvery != 0 {
		return ""
	}
	if all := l.endAbandoned(); all >= mostUnreleasedAll {
		return fmt.Sprintf("was sent away, as all devices together have %d messages of QoS 2 that they do not release (PUBREL)",
			all)
	}
	return ""
}

// endAbandoned counts what is unreleased of all. Where that is too much, it ends sessions of clients that left some
// and are gone.
func (l *listener) endAbandoned() (all int) {
	clients := l.server.Clients.GetAll()
	for _, cl := range clients {
		all += cl.State.Inflight.Len()
	}
	for id, cl := range clients {
		if n := cl.State.Inflight.Len(); all >= mostUnreleasedAll && n > 0 && cl.Closed() {
			l.Failed("device "+id,
				fmt.Sprintf("its session was ended, as it left %d messages of QoS 2 unreleased (PUBREL) and went away",
					n))
			cl.ClearInflights()
			l.server.Clients.Delete(id)
			all -= n
		}
	}
	return all
}

// doubles are the QoS 2 messages on their way to disk, by client and packet identifier.
type doubles struct {
	mu    sync.Mutex
	under map[string]map[uint16]*double
}

type double struct {
	client string
	id     uint16
}

// begin returns nil if a message with the identifier is already being processed.
func (d *doubles) begin(client string, id uint16) *double {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.under == nil {
		d.under = map[string]map[uint16]*double{}
	}
	if d.under[client][id] != nil {
		return nil
	}
	if d.under[client] == nil {
		d.under[client] = map[uint16]*double{}
	}
	mine := &double{client, id}
	d.under[client][id] = mine
	return mine
}

// count returns how many of a client are on their way to disk.
func (d *doubles) count(client string) int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return len(d.under[client])
}

// end reports whether the message is still one of its client's session.
func (d *doubles) end(mine *double) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	ids := d.under[mine.client]
	if ids[mine.id] != mine {
		return false
	}
	delete(ids, mine.id)
	if len(ids) == 0 {
		delete(d.under, mine.client)
	}
	return true
}

// forget drops what a client has under way.
func (d *doubles) forget(client string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.under, client)
}

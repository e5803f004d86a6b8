package mqtt

import "sync"

// doubles are the QoS 2 messages on their way to disk, by client and packet identifier.
type doubles struct {
	mu    sync.Mutex
	under map[string]map[uint16]*double
}

type double struct {
	client string
	id     uint16
}

// begin is nil when a message with the identifier is on its way already.
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

package records

import "sync"

// announcement tells whoever sends records that some changed.
type announcement struct {
	mu   sync.Mutex
	tell func()
}

func (a *announcement) announce() {
	a.mu.Lock()
	tell := a.tell
	a.mu.Unlock()
	if tell != nil {
		tell()
	}
}

// Announce calls tell after records changed that uplinks send.
func (r Records) Announce(tell func()) {
	r.changed.mu.Lock()
	defer r.changed.mu.Unlock()
	r.changed.tell = tell
}

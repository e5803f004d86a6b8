package mqtt

import (
	"fmt"
	"sync"
	"time"
)

const (
	soonLost  = maxReconnectWait + connectWithin // a connection that lives for less is suspicious: its twin came back
	mostShort = 3
)

// takeovers recognises that another client has the same client id. A broker of MQTT 3.1.1 then closes the older of the
// two connections without a word, and each client connects again and ends the other.
type takeovers struct {
	mu     sync.Mutex
	upAt   time.Time
	shorts int // connections in a row that were lost soon after they were made
}

func (t *takeovers) connected(now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.upAt = now
}

// lost returns what people should know beside the cause, or "".
func (t *takeovers) lost(now time.Time, clientID string) string {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.upAt.IsZero() || now.Sub(t.upAt) >= soonLost {
		t.shorts = 0
		return ""
	}
	if t.shorts++; t.shorts < mostShort {
		return ""
	}
	return fmt.Sprintf("; the last %d connections ended within %s of being made: does another client connect as %q? Give each its own client_id",
		t.shorts, soonLost, clientID)
}

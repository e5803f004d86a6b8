package mqtt

import (
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	mqtt "github.com/mochi-mqtt/server/v2"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/gateway/pipeline"
)

// presence tracks the clients that are connected, and those that were since the start.
type presence struct {
	mu    sync.Mutex
	over  bool // the listener ends; that nobody is connected then says nothing of the devices
	known map[string]here
}

type here struct {
	connection *mqtt.Client // nil: not connected
	account    string
}

// presentEvery is how often the series of presence are told again, as a state holds only
// for as long as it is fresh.
const presentEvery = 30 * time.Second

// mostPresent bounds the devices that are remembered.
const mostPresent = 100_000

// note takes in that a connection begins or ends, and reports whether that changes who is
// here: one that another has taken over ends without a word.
func (p *presence) note(cl *mqtt.Client, account string, connected bool) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	is, had := p.known[cl.ID]
	switch {
	case p.over:
		return false
	case connected && (had || len(p.known) < mostPresent):
		if p.known == nil {
			p.known = map[string]here{}
		}
		p.known[cl.ID] = here{cl, account}
		return true
	case !connected && had && is.connection == cl:
		p.known[cl.ID] = here{nil, is.account}
		return true
	}
	return false
}

func (p *presence) all() map[string]here {
	p.mu.Lock()
	defer p.mu.Unlock()
	return maps.Clone(p.known)
}

func (p *presence) end() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.over = true
}

// present notes that a connection begins or ends.
func (l *listener) present(cl *mqtt.Client, d *device, connected bool) {
	if l.settings.presence == "" || !l.presence.note(cl, d.account, connected) {
		return
	}
	is := here{account: d.account}
	if connected {
		is.connection = cl
	}
	l.tell(map[string]here{cl.ID: is})
}

// tell brings the presence of devices to their series.
func (l *listener) tell(known map[string]here) {
	at, err := l.pipe.Arrive()
	if err != nil || len(known) == 0 {
		return
	}
	d := &pipeline.Delivery{}
	for _, id := range slices.Sorted(maps.Keys(known)) {
		from := &reading.Origin{Source: l.name, Place: "presence of " + id}
		path, err := l.settings.presence.Path(map[string]string{"client": id, "account": known[id].account})
		if err != nil {
			d.Rejects = append(d.Rejects, from.Reject(at, fmt.Sprintf("its name cannot be made a series: %v", err)))
			continue
		}
		one := reading.Reading{Path: path, Time: at, From: from}
		if known[id].connection != nil {
			one.Value = 1
		}
		d.Readings = append(d.Readings, one)
	}
	l.pipe.Submit(d)
}

package sparkplug

import (
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"time"

	"google.golang.org/protobuf/proto"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/sparkplug/wire"
)

const namespace = "spBv1.0/"

// Mine reports whether a topic is one of Sparkplug's.
func Mine(topic string) bool { return strings.HasPrefix(topic, namespace) }

// Command reports whether a topic carries what nodes listen to: commands, and which hosts
// are online.
func Command(topic string) bool {
	levels := strings.Split(topic, "/")
	if !Mine(topic) || len(levels) < 3 {
		return false
	}
	return levels[1] == "STATE" || levels[2] == "NCMD" || levels[2] == "DCMD"
}

// Host keeps what edge nodes have said.
type Host struct {
	source   string
	settings *Settings

	mu    sync.Mutex
	nodes map[string]*node // by group and node
	known int              // metrics of all of them
}

// node is an edge node, and what is behind it.
type node struct {
	group, name string
	online      bool
	seq         uint64 // of its last message
	bdSeq       int64  // of its birth; -1: it said none
	asked       time.Time
	own         *catalogue
	devices     map[string]*catalogue
}

const (
	mostNodes   = 10_000
	mostDevices = 10_000 // of a node
	mostMetrics = 1_000_000
	askAgain    = 10 * time.Second // how often a node is asked to be born again
)

// NewHost returns one that has heard nothing yet.
func NewHost(source string, settings *Settings) *Host {
	return &Host{source: source, settings: settings, nodes: map[string]*node{}}
}

// Message is one to be sent.
type Message struct {
	Topic   string
	Payload []byte
	Retain  bool
}

// Taken holds the readings, rejects and answers of one message.
type Taken struct {
	Readings []reading.Reading
	Rejects  []reading.Reject
	Ignored  int           // metrics of a birth that measure nothing, such as data sets and templates
	Ended    []series.Path // of a node or device that died
	Faults   []string      // what else is wrong, of the node
	Send     []Message     // in answer
}

// Take takes in a message that arrived, at nanoseconds since 1970.
func (h *Host) Take(topic string, body []byte, at int64) (out Taken) {
	t := &taking{host: h, at: at, from: &reading.Origin{Source: h.source, Place: topic, Raw: body}, out: &out}
	levels := strings.Split(topic, "/")
	if len(levels) == 3 && levels[1] == "STATE" {
		h.state(levels[2], body, t)
		return out
	}
	if len(levels) < 4 || len(levels) > 5 || !kinds[levels[2]] || (levels[2][0] == 'D') != (len(levels) == 5) {
		t.refuse("the topic is none of Sparkplug's for data: spBv1.0/GROUP/KIND/NODE, or with /DEVICE at the end, where KIND is NBIRTH, NDATA, NDEATH, DBIRTH, DDATA or DDEATH")
		return out
	}
	if h.settings.group != "" && levels[1] != h.settings.group {
		t.refuse("group %q is not the one that is collected, %q", levels[1], h.settings.group)
		return out
	}
	t.payload = &wire.Payload{}
	if err := proto.Unmarshal(body, t.payload); err != nil {
		t.refuse("the payload is none of Sparkplug B's: %v", err)
		return out
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if t.node = h.node(levels[1], levels[3]); t.node == nil {
		t.refuse("there are %d edge nodes already; at most that many are remembered", mostNodes)
		return out
	}
	if len(levels) == 5 {
		t.device = levels[4]
	}
	t.kind(levels[2])
	return out
}

var kinds = map[string]bool{
	"NBIRTH": true,
	"NDATA":  true,
	"NDEATH": true,
	"DBIRTH": true,
	"DDATA":  true,
	"DDEATH": true,
}

func (h *Host) node(group, name string) *node {
	key := group + "/" + name
	n := h.nodes[key]
	if n == nil && len(h.nodes) < mostNodes {
		n = &node{group: strings.Clone(group), name: strings.Clone(name)}
		h.nodes[strings.Clone(key)] = n
	}
	return n
}

// stateOf is the payload that says whether a host is there (Sparkplug 3.0.0, 5.4).
type stateOf struct {
	Online    bool  `json:"online"`
	Timestamp int64 `json:"timestamp"` // milliseconds since 1970
}

// State returns the message that says whether this host is there. That of an end must have the time
// of the beginning that it ends.
func (h *Host) State(online bool, at time.Time) Message {
	body, _ := json.Marshal(stateOf{online, at.UnixMilli()}) // it cannot fail
	return Message{namespace + "STATE/" + h.settings.host, body, true}
}

// state answers a message that says that we are not there: of a connection before this one.
func (h *Host) state(host string, body []byte, t *taking) {
	var said stateOf
	if err := json.Unmarshal(body, &said); host == h.settings.host && err == nil && !said.Online {
		t.out.Send = append(t.out.Send, h.State(true, time.Unix(0, t.at)))
	}
}

// Filters returns the topics to subscribe to.
func (h *Host) Filters() []string { return h.settings.Filters() }

// Present tells again which nodes and devices are there: a state holds only for as long as it
// is fresh.
func (h *Host) Present(at int64) (out Taken) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, n := range h.nodes {
		t := &taking{
			host: h,
			at:   at,
			node: n,
			from: &reading.Origin{Source: h.source, Place: namespace + n.group + "/" + n.name},
			out:  &out,
		}
		if n.own == nil {
			continue // never born since our start
		}
		t.present(n.online)
		for name, d := range n.devices {
			t.device = name
			t.present(d.online)
		}
	}
	return out
}

// rebirth returns the command to a node to be born again (Sparkplug 3.0.0, 6.4.22).
func rebirth(n *node, at int64) Message {
	body, _ := proto.Marshal(&wire.Payload{
		Timestamp: proto.Uint64(uint64(at / 1e6)),
		Metrics: []*wire.Metric{{
			Name: proto.String("Node Control/Rebirth"), Timestamp: proto.Uint64(uint64(at / 1e6)), Datatype: proto.Uint32(boolean), Value: &wire.Metric_BooleanValue{BooleanValue: true},
		}},
	}) // it cannot fail
	return Message{Topic: fmt.Sprintf("%s%s/NCMD/%s", namespace, n.group, n.name), Payload: body}
}

package overmqtt

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"google.golang.org/protobuf/proto"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	spb "nexocumula/internal/gateway/sparkplug/wire"
	"nexocumula/internal/wire"
)

// node is this service as an edge node of Sparkplug B 3.0. A metric is the latest value of a series, under its path below the
// site, or a stat of its summaries, PATH/TIER/STAT.
type node struct {
	group, name, primary string

	mu      sync.Mutex
	reborn  bool          // it has to say again what it has
	online  chan struct{} // closed once the primary host is there; nil: it is
	gone    bool          // the primary host went
	seq     uint64
	bdSeq   uint64
	metrics map[string]metric
	order   []string
}

// metric is a metric as it was last published.
type metric struct {
	value float64
	at    int64
}

const (
	namespace   = "spBv1.0/"
	doubleType  = 10
	uint64Type  = 8
	booleanType = 11
	mostMetrics = 500 // of a message
	rebirth     = "Node Control/Rebirth"
	historical  = 5 * time.Minute
)

func newNode(s Settings) *node {
	return &node{group: s.group, name: s.node, primary: s.primary, metrics: map[string]metric{}}
}

func (n *node) topic(kind string) string { return namespace + n.group + "/" + kind + "/" + n.name }

// session begins a connection.
func (n *node) session(bdSeq uint64, now time.Time) *session {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.bdSeq, n.reborn, n.gone, n.online = bdSeq, true, false, nil
	filters := []string{n.topic("NCMD")}
	if n.primary != "" {
		filters = append(filters, namespace+"STATE/"+n.primary)
		n.online = make(chan struct{})
	}
	death := &spb.Payload{Timestamp: proto.Uint64(uint64(now.UnixMilli())), Metrics: []*spb.Metric{n.bdMetric(now)}}
	text, _ := proto.Marshal(death) // texts and numbers can always be written
	return &session{will: message{topic: n.topic("NDEATH"), payload: text}, filters: filters, take: n.take}
}

func (n *node) bdMetric(now time.Time) *spb.Metric {
	return &spb.Metric{
		Name: proto.String("bdSeq"), Timestamp: proto.Uint64(uint64(now.UnixMilli())), Datatype: proto.Uint32(uint64Type),
		Value: &spb.Metric_LongValue{LongValue: n.bdSeq},
	}
}

// take hears commands and where the primary host stands.
func (n *node) take(topic string, payload []byte) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if strings.HasPrefix(topic, namespace+"STATE/") {
		var state struct {
			Online bool `json:"online"`
		}
		if json.Unmarshal(payload, &state) != nil {
			return
		}
		switch {
		case state.Online && n.online != nil:
			close(n.online)
			n.online = nil
		case !state.Online && n.online == nil:
			n.gone = true
		}
		return
	}
	var command spb.Payload
	if proto.Unmarshal(payload, &command) != nil {
		return
	}
	for _, m := range command.Metrics {
		if m.GetName() == rebirth && m.GetBooleanValue() {
			n.reborn = true
		}
	}
}

// left reports whether the primary host went.
func (n *node) left() bool {
	if n == nil {
		return false
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.gone
}

const hostWithin = 5 * time.Second

// await waits for the primary host.
func (n *node) await(ctx context.Context) error {
	n.mu.Lock()
	online := n.online
	n.mu.Unlock()
	if online == nil {
		return nil
	}
	select {
	case <-online:
		return nil
	case <-time.After(hostWithin):
		return fmt.Errorf("the primary host %s is not there", n.primary)
	case <-ctx.Done():
		return errors.Join(fmt.Errorf("the primary host %s is not there", n.primary), ctx.Err())
	}
}

// change is a value that a metric had.
type change struct {
	name string
	metric
}

// messages returns what is published of runs: a birth first, if one is due or a metric is new, then their values in order of time.
func (n *node) messages(runs []wire.Run, stats []string, now time.Time) (out []message, err error) {
	changes := changesOf(runs, stats)
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, c := range changes {
		if _, known := n.metrics[c.name]; !known {
			n.reborn = true
			n.order = append(n.order, c.name)
			n.metrics[c.name] = c.metric
		}
	}
	if n.reborn {
		born, err := n.birth(now)
		if err != nil {
			return nil, err
		}
		out = append(out, born)
		n.reborn = false
	}
	for some := range slices.Chunk(changes, mostMetrics) {
		body := &spb.Payload{Timestamp: proto.Uint64(uint64(now.UnixMilli()))}
		for _, c := range some {
			m := value(c.name, c.metric)
			if now.Sub(time.Unix(0, c.at)) > historical {
				m.IsHistorical = proto.Bool(true)
			}
			body.Metrics = append(body.Metrics, m)
			if c.at >= n.metrics[c.name].at {
				n.metrics[c.name] = c.metric
			}
		}
		one, err := n.next("NDATA", body)
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}

func value(name string, of metric) *spb.Metric {
	return &spb.Metric{
		Name: proto.String(name), Timestamp: proto.Uint64(uint64(of.at / 1e6)), Datatype: proto.Uint32(doubleType),
		Value: &spb.Metric_DoubleValue{DoubleValue: of.value},
	}
}

// birth says all that this node has.
func (n *node) birth(now time.Time) (message, error) {
	body := &spb.Payload{Timestamp: proto.Uint64(uint64(now.UnixMilli())), Metrics: []*spb.Metric{n.bdMetric(now), {
		Name: proto.String(rebirth), Timestamp: proto.Uint64(uint64(now.UnixMilli())), Datatype: proto.Uint32(booleanType),
		Value: &spb.Metric_BooleanValue{BooleanValue: false},
	}}}
	for _, name := range n.order {
		body.Metrics = append(body.Metrics, value(name, n.metrics[name]))
	}
	n.seq = 255
	return n.next("NBIRTH", body)
}

// next gives a message its number; a birth has 0.
func (n *node) next(kind string, body *spb.Payload) (message, error) {
	n.seq = (n.seq + 1) % 256
	body.Seq = proto.Uint64(n.seq)
	text, err := proto.Marshal(body)
	if err != nil {
		return message{}, fmt.Errorf("encoding a payload of Sparkplug: %w", err)
	}
	return message{topic: n.topic(kind), payload: text}, nil
}

// changesOf returns the values that runs tell of, in order of time.
func changesOf(runs []wire.Run, stats []string) (out []change) {
	latest := map[string]int64{}
	for _, run := range runs {
		if run.Len() == 0 || len(run.Sketches) > 0 || run.Tier == series.Readings {
			continue
		}
		_, name, _ := strings.Cut(string(run.Def.Path), "/")
		for i, start := range run.Rows.Times {
			sum := rollup.FromRow(run.Rows, i, run.Def.Kind)
			for _, stat := range stats {
				if v, _, ok := statOf(sum, stat, run.Def, run.Tier); ok {
					out = append(out, change{name + "/" + run.Tier.String() + "/" + stat, metric{v, start}})
				}
			}
			if sum.LastAt > latest[name] {
				latest[name] = sum.LastAt
				out = append(out, change{name, metric{sum.Last, sum.LastAt}})
			}
		}
	}
	slices.SortStableFunc(out, func(a, b change) int { return int(min(1, max(-1, a.at-b.at))) })
	return out
}

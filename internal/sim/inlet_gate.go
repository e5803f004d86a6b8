package sim

import (
	"context"
	"fmt"
	"math"
	"sync"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"google.golang.org/protobuf/proto"

	"nexocumula/internal/gateway/sparkplug/wire"
)

// GateOpening of the hatchery's inlet in percent: it follows the rain in steps of 5, every ten minutes.
func (f Field) GateOpening(t time.Time) float64 {
	t = t.Truncate(10 * time.Minute)
	return 5 * math.Round(14-6*math.Max(0, f.drift("rain", t, 9*time.Hour))+f.drift("gate", t, 3*time.Hour))
}

// What the gate's drive does; the values are the ones of the series' rule.
const (
	driveRests   = 0
	driveMoves   = 1
	driveBlocked = 2
)

var driveSays = []string{"resting", "moving", "blocked"}

// GateDrive moves for 25 s after the opening has changed. In the morning of every fourth day
// leaves block it.
func (f Field) GateDrive(t time.Time) float64 {
	day, within := t.UnixNano()/int64(24*time.Hour), time.Duration(t.UnixNano()%int64(24*time.Hour))
	switch {
	case day%4 == 2 && within > 5*time.Hour && within < 5*time.Hour+35*time.Minute:
		return driveBlocked
	case f.GateOpening(t) != f.GateOpening(t.Add(-25*time.Second)):
		return driveMoves
	}
	return driveRests
}

// gateNode is the drive's control, an edge node of Sparkplug B (Eclipse Sparkplug 3.0.0) with
// the gate as its device.
type gateNode struct {
	*Publisher
	field Field

	mu    sync.Mutex
	seq   uint64
	birth uint64 // bdSeq, by which a death tells which birth it ends
}

const (
	gateGroup, gateName, gateDevice = "weir", "gate-control", "inlet-gate"

	ofUInt16, ofInt64, ofBoolean, ofString = 6, 4, 11, 12 // data types of the standard
	opening, drive                         = 1, 2         // aliases
	losesEvery                             = 60           // one of so many messages is lost on its way
)

func gateTopic(kind string) string {
	topic := "spBv1.0/" + gateGroup + "/" + kind + "/" + gateName
	if kind[0] == 'D' {
		topic += "/" + gateDevice
	}
	return topic
}

// InletGate publishes the inlet gate of alder-weir until ctx ends.
func InletGate(ctx context.Context, f Field, address string, every time.Duration) *Publisher {
	g := &gateNode{field: f}
	g.mu.Lock() // until the publisher is there, which the handler of the connection uses
	g.Publisher = connect(address, gateName, func(o *paho.ClientOptions) {
		o.SetCleanSession(true).SetBinaryWill(gateTopic("NDEATH"), encoded(g.numbered(false)), 1, false)
		o.SetOnConnectHandler(func(c paho.Client) {
			c.Subscribe(gateTopic("NCMD"), 1, func(paho.Client, paho.Message) { g.bear() }) // the only one there is: to be born again
			g.bear()
		})
	})
	g.mu.Unlock()
	go func() {
		tick := time.NewTicker(every)
		defer tick.Stop()
		for n := 1; ; n++ {
			select {
			case <-tick.C:
				g.tell(n%losesEvery == 0)
			case <-ctx.Done():
				return
			}
		}
	}()
	return g.Publisher
}

// numbered returns a payload with the next number, or that of a birth or death of the node.
func (g *gateNode) numbered(data bool) *wire.Payload {
	p := &wire.Payload{Timestamp: proto.Uint64(uint64(time.Now().UnixMilli()))}
	if data {
		p.Seq = proto.Uint64(g.seq)
		g.seq = (g.seq + 1) % 256
	} else {
		p.Metrics = []*wire.Metric{{
			Name:     proto.String("bdSeq"),
			Datatype: proto.Uint32(ofInt64),
			Value:    &wire.Metric_LongValue{LongValue: g.birth},
		}}
	}
	return p
}

// bear says what there is.
func (g *gateNode) bear() {
	g.mu.Lock()
	defer g.mu.Unlock()
	node := g.numbered(false)
	g.seq = 1
	node.Seq = proto.Uint64(0)
	node.Metrics = append(node.Metrics, &wire.Metric{
		Name:     proto.String("Node Control/Rebirth"),
		Datatype: proto.Uint32(ofBoolean),
		Value:    &wire.Metric_BooleanValue{},
	})
	g.publish(gateTopic("NBIRTH"), encoded(node))
	device := g.measured()
	device.Metrics[0].Name, device.Metrics[1].Name = proto.String("Gate/Opening"), proto.String("Gate/Drive")
	g.publish(gateTopic("DBIRTH"), encoded(device))
}

// tell says how the gate stands; lost messages have a number, but never arrive.
func (g *gateNode) tell(lost bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if data := g.measured(); g.client.IsConnected() && !lost {
		g.publish(gateTopic("DDATA"), encoded(data))
	}
}

func (g *gateNode) measured() *wire.Payload {
	p, t := g.numbered(true), g.field.Clock(time.Now())
	p.Metrics = []*wire.Metric{
		{
			Alias:    proto.Uint64(opening),
			Datatype: proto.Uint32(ofUInt16),
			Value:    &wire.Metric_IntValue{IntValue: uint32(10 * g.field.GateOpening(t))},
		},
		{
			Alias:    proto.Uint64(drive),
			Datatype: proto.Uint32(ofString),
			Value:    &wire.Metric_StringValue{StringValue: driveSays[int(g.field.GateDrive(t))]},
		},
	}
	return p
}

func encoded(p *wire.Payload) []byte {
	body, err := proto.Marshal(p)
	if err != nil {
		panic(fmt.Sprintf("a payload of our own cannot be encoded: %v", err))
	}
	return body
}

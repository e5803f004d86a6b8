package sim

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
)

// Publisher is simulated MQTT devices on one connection. Acked counts the messages
// the other end has acknowledged.
type Publisher struct {
	Sent, Acked atomic.Uint64
	client      paho.Client
}

// connect keeps a connection to the MQTT server at address, tcp://host:port. more may change
// how.
func connect(address, id string, more ...func(*paho.ClientOptions)) *Publisher {
	options := paho.NewClientOptions().AddBroker(address).SetClientID(id).
		SetConnectRetry(true).SetConnectRetryInterval(time.Second).SetMaxReconnectInterval(2 * time.Second).SetCleanSession(false)
	for _, change := range more {
		change(options)
	}
	p := &Publisher{client: paho.NewClient(options)}
	p.client.Connect()
	return p
}

func (p *Publisher) publish(topic string, payload []byte) {
	p.Sent.Add(1)
	token := p.client.Publish(topic, 1, false, payload)
	go func() {
		token.Wait()
		if token.Error() == nil {
			p.Acked.Add(1)
		}
	}()
}

// Settle waits until everything sent is acknowledged, or ctx ends.
func (p *Publisher) Settle(ctx context.Context) error {
	for p.Acked.Load() < p.Sent.Load() {
		select {
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
			return fmt.Errorf("%d of %d messages were acknowledged: %w", p.Acked.Load(), p.Sent.Load(), ctx.Err())
		}
	}
	return nil
}

// Close disconnects.
func (p *Publisher) Close() { p.client.Disconnect(100) }

type buoyState struct {
	At      time.Time          `json:"at"`
	Water   map[string]float64 `json:"water"`
	Oxygen  float64            `json:"oxygen"`
	Battery float64            `json:"battery"`
}

// buoyMessage returns a buoy's message for a time by its own clock.
func (f Field) buoyMessage(at time.Time, buoy int) []byte {
	t := f.Clock(at)
	state := buoyState{
		At:      at.UTC().Truncate(time.Millisecond),
		Water:   map[string]float64{},
		Oxygen:  f.LakeOxygen(t, buoy),
		Battery: f.Battery(t, buoy),
	}
	for _, depth := range Depths {
		state.Water[fmt.Sprintf("t%d", depth)] = f.LakeTemp(t, buoy, depth)
	}
	text, err := json.Marshal(state)
	if err != nil {
		panic(err) // finite numbers only
	}
	return text
}

// senMLRecord is one of SenML (RFC 8428).
type senMLRecord struct {
	BaseName string  `json:"bn,omitempty"`
	BaseTime float64 `json:"bt,omitempty"`
	Name     string  `json:"n"`
	Unit     string  `json:"u"`
	Value    float64 `json:"v"`
}

func (f Field) senML(at time.Time, buoy int) []byte {
	t := f.Clock(at)
	var pack []senMLRecord
	for _, depth := range Depths {
		pack = append(pack, senMLRecord{
			Name:  fmt.Sprintf("water_temp_%dm", depth),
			Unit:  "Cel",
			Value: f.LakeTemp(t, buoy, depth),
		})
	}
	pack = append(pack, senMLRecord{
		Name:  "oxygen",
		Unit:  "mg/l",
		Value: f.LakeOxygen(t, buoy),
	}, senMLRecord{Name: "battery", Unit: "mV", Value: 1000 * f.Battery(t, buoy)})
	pack[0].BaseName, pack[0].BaseTime = fmt.Sprintf("buoy-%d/", buoy+1), float64(at.UnixMilli())/1000
	text, err := json.Marshal(pack)
	if err != nil {
		panic(err) // finite numbers only
	}
	return text
}

// LakeStations publishes the buoys and the mast of long-mere to an MQTT server until
// ctx ends. The link of buoy 2 is patchy: its messages come in bursts, the newest
// first and one of them twice. The clock of buoy 1 runs an hour ahead now and then.
func LakeStations(ctx context.Context, f Field, address string, every time.Duration) *Publisher {
	p := connect(address, "lake-stations")
	go func() {
		tick := time.NewTicker(every)
		defer tick.Stop()
		var held [][]byte
		for n := 1; ; n++ {
			t := time.Now()
			for buoy := range Buoys {
				at := t
				if buoy == 1 && n%25 == 0 {
					at = t.Add(time.Hour)
				}
				if buoy == 3 { // of another make
					p.publish("senml/buoy-4", f.senML(t, buoy))
					continue
				}
				message := f.buoyMessage(at, buoy)
				if buoy != 2 {
					p.publish(fmt.Sprintf("buoy/buoy-%d/state", buoy+1), message)
					continue
				}
				if held = append(held, message); len(held) == 4 {
					slices.Reverse(held)
					for _, m := range append(held, held[1]) {
						p.publish("buoy/buoy-3/state", m)
					}
					held = nil
				}
			}
			p.publish("mast/wind",
				fmt.Appendf(nil, "%.1f m/s %.0f", f.WindSpeed(f.Clock(t)), f.WindDirection(f.Clock(t))))
			select {
			case <-tick.C:
			case <-ctx.Done():
				return
			}
		}
	}()
	return p
}

// SiloScale publishes the feed scale of stony-beck to an open broker until ctx ends.
func SiloScale(ctx context.Context, f Field, address string, every time.Duration) *Publisher {
	return SiloScaleOf(ctx, f, &SiteBroker{Address: address}, every)
}

// SiloScaleOf publishes it to a broker with its account there.
func SiloScaleOf(ctx context.Context, f Field, b *SiteBroker, every time.Duration) *Publisher {
	p := connect(b.Address, "silo-scale", func(o *paho.ClientOptions) {
		if b.trusted != nil {
			o.SetUsername("scale").SetPassword(b.password).SetTLSConfig(&tls.Config{RootCAs: b.trusted, MinVersion: tls.VersionTLS12})
		}
	})
	go func() {
		tick := time.NewTicker(every)
		defer tick.Stop()
		for {
			p.publish("feed/silo-1/weight", fmt.Appendf(nil, "%.1f kg", f.Silo(f.Clock(time.Now()))))
			select {
			case <-tick.C:
			case <-ctx.Done():
				return
			}
		}
	}()
	return p
}

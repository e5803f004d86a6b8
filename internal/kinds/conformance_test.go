package kinds

import (
	"context"
	"fmt"
	"io"
	"log"
	"log/slog"
	"math/rand/v2"
	"net"
	"sync/atomic"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	mochi "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/auth"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/simonvetter/modbus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/gateway/push"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/gateway/source/sourcetest"
)

const level = "long-mere/mast/level"

// cases has a way to reach each kind of source.
var cases = map[string]func(t *testing.T) sourcetest.Case{
	"mqtt_listener": viaListener,
	"mqtt_broker":   viaBroker,
	"modbus":        viaModbus,
	"http_push":     viaPush,
}

func TestEveryKindOfSourceConforms(t *testing.T) {
	for _, kind := range All.Sources {
		t.Run(kind.Key, func(t *testing.T) {
			reach, ok := cases[kind.Key]
			require.True(t, ok, "no case says how to reach a source of this kind")
			c := reach(t)
			c.Kind, c.Path = kind, level
			sourcetest.Conform(t, c)
		})
	}
}

const messages = `        messages: [{ topic: "{station}/{quantity}", series: "{station}/{quantity}" }]
`

// publish sends a message and does not wait for its acknowledgement.
func publish(t *testing.T, address, text string) {
	client := paho.NewClient(paho.NewClientOptions().AddBroker(address).SetClientID(fmt.Sprintf("conform-%x",
		rand.Uint32())).SetAutoReconnect(false))
	token := client.Connect()
	require.True(t, token.WaitTimeout(time.Minute))
	require.NoError(t, token.Error())
	sent := client.Publish("mast/level", 1, false, text)
	go func() {
		sent.WaitTimeout(time.Minute)
		client.Disconnect(0)
	}()
}

func viaListener(*testing.T) sourcetest.Case {
	send := func(t *testing.T, to source.Source, text string) { publish(t, "tcp://"+to.Tally().Address, text) }
	return sourcetest.Case{
		File:  "        address: 127.0.0.1:0\n" + messages,
		Bring: func(t *testing.T, to source.Source, value float64) { send(t, to, fmt.Sprint(value)) },
		Spoil: func(t *testing.T, to source.Source) { send(t, to, "no number") },
	}
}

func viaBroker(t *testing.T) sourcetest.Case {
	broker := mochi.New(&mochi.Options{Logger: slog.New(slog.DiscardHandler)})
	require.NoError(t, broker.AddHook(new(auth.AllowHook), nil))
	open, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, broker.AddListener(listeners.NewNet("b", open)))
	require.NoError(t, broker.Serve())
	t.Cleanup(func() { broker.Close() })
	address := "tcp://" + open.Addr().String()
	return sourcetest.Case{
		File:  "        address: " + address + "\n" + messages,
		Bring: func(t *testing.T, _ source.Source, value float64) { publish(t, address, fmt.Sprint(value)) },
		Spoil: func(t *testing.T, _ source.Source) { publish(t, address, "no number") },
	}
}

// registers is a device whose first register holds a value, and whose second holds digits.
type registers struct {
	value  atomic.Uint32
	digits atomic.Uint32
}

func (r *registers) HandleCoils(*modbus.CoilsRequest) ([]bool, error) {
	return nil, modbus.ErrIllegalFunction
}

func (r *registers) HandleDiscreteInputs(*modbus.DiscreteInputsRequest) ([]bool, error) {
	return nil, modbus.ErrIllegalFunction
}

func (r *registers) HandleInputRegisters(*modbus.InputRegistersRequest) ([]uint16, error) {
	return nil, modbus.ErrIllegalFunction
}

func (r *registers) HandleHoldingRegisters(q *modbus.HoldingRegistersRequest) ([]uint16, error) {
	all := []uint16{uint16(r.value.Load()), uint16(r.digits.Load())}
	if int(q.Addr)+int(q.Quantity) > len(all) {
		return nil, modbus.ErrIllegalDataAddress
	}
	return all[q.Addr : q.Addr+q.Quantity], nil
}

func viaModbus(t *testing.T) sourcetest.Case {
	probe, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := "tcp://" + probe.Addr().String()
	require.NoError(t, probe.Close())
	device := &registers{}
	server, err := modbus.NewServer(&modbus.ServerConfiguration{
		URL:        address,
		Timeout:    time.Minute,
		MaxClients: 5,
		Logger:     log.New(io.Discard, "", 0),
	}, device)
	require.NoError(t, err)
	require.NoError(t, server.Start())
	t.Cleanup(func() { _ = server.Stop() })
	return sourcetest.Case{
		File: "        address: " + address + `
        every: 100ms
        registers:
          - { table: holding, address: 0, series: mast/level }
          - { table: holding, address: 1, type: bcd16, series: mast/digits }
`,
		Bring: func(_ *testing.T, _ source.Source, value float64) { device.value.Store(uint32(value)) },
		Spoil: func(*testing.T, source.Source) { device.digits.Store(0xabcd) },
	}
}

func viaPush(t *testing.T) sourcetest.Case {
	t.Setenv("LOGGER_TOKEN", "trout-and-char-77")
	send := func(t *testing.T, to source.Source, body string) {
		receiver := to.(*push.Receiver)
		go func() {
			_, err := receiver.Take(context.Background(), push.Document{
				Sender: receiver.Sender("trout-and-char-77"),
				Form:   push.CSV,
				Body:   []byte(body),
			})
			assert.NoError(t, err)
		}()
	}
	return sourcetest.Case{
		File: "        senders: [{ name: logger, secret_env: LOGGER_TOKEN }]\n",
		Bring: func(t *testing.T, to source.Source, value float64) {
			send(t, to,
				fmt.Sprintf("series,time,value\nmast/level,%s,%v\n", time.Now().UTC().Format(time.RFC3339Nano), value))
		},
		Spoil: func(t *testing.T, to source.Source) { send(t, to, "series,time,value\nmast/level,yesterday,4\n") },
	}
}

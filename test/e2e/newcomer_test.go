package e2e

import (
	"context"
	"fmt"
	"io"
	"log"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/simonvetter/modbus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// holdings is a device with holding registers and nothing else.
type holdings []uint16

func (h holdings) HandleHoldingRegisters(r *modbus.HoldingRegistersRequest) ([]uint16, error) {
	if int(r.Addr)+int(r.Quantity) > len(h) {
		return nil, modbus.ErrIllegalDataAddress
	}
	return h[r.Addr:][:r.Quantity], nil
}

func (holdings) HandleCoils(*modbus.CoilsRequest) ([]bool, error) {
	return nil, modbus.ErrIllegalFunction
}

func (holdings) HandleDiscreteInputs(*modbus.DiscreteInputsRequest) ([]bool, error) {
	return nil, modbus.ErrIllegalFunction
}

func (holdings) HandleInputRegisters(*modbus.InputRegistersRequest) ([]uint16, error) {
	return nil, modbus.ErrIllegalFunction
}

// takes returns 60 registers of four kinds, how each is named and what is expected of it, and the values they
// stand for.
func takes() (registers holdings, named []string, values map[string]float64) {
	values = map[string]float64{}
	add := func(series, unit, within string, value float64, words ...uint16) {
		named = append(named, "--take", fmt.Sprintf("%d=%s:%s:%s", len(registers), series, unit, within))
		registers, values["site/"+series] = append(registers, words...), value
	}
	for i := range 20 {
		add(fmt.Sprintf("raceway-%d/saturation", i+1), "%", "50..120", 90+float64(3*i)/10, uint16(900+3*i))
	}
	for i := range 10 {
		add(fmt.Sprintf("raceway-%d/water_temp", i+1), "Cel", "-2..30", float64(837+45*i)/100, uint16(837+45*i))
	}
	for i := range 10 {
		bits := math.Float32bits(20.5 + float32(i))
		add(fmt.Sprintf("raceway-%d/flow", i+1), "l/s", "0..40", 20.5+float64(i), uint16(bits>>16), uint16(bits))
	}
	for i := range 5 {
		total := uint32(1_250_000 + 777*i)
		add(fmt.Sprintf("pump-%d/energy", i+1), "kWh", "1e6..2e6", float64(total), uint16(total>>16), uint16(total))
	}
	return registers, named, values
}

// said returns 40 topics of eight kinds with a payload each, and the values they stand for.
func said() (topics map[string]string, values map[string]float64) {
	topics, values = map[string]string{}, map[string]float64{}
	for i := 1; i <= 5; i++ {
		x := float64(i)
		say := func(what, payload string, is map[string]float64) {
			topics[fmt.Sprintf("farm/tank-%d/%s", i, what)] = payload
			for quantity, v := range is {
				values[fmt.Sprintf("site/tank-%d/%s", i, quantity)] = v
			}
		}
		say("level", fmt.Sprintf("%d cm", 400+i), map[string]float64{"level": 400 + x})
		say("state", fmt.Sprintf(`{"water":{"temp":%d.5,"oxygen":9.%d},"pump":"on"}`, 7+i, i),
			map[string]float64{"temp": 7.5 + x, "oxygen": 9 + x/10})
		say("pressure", fmt.Sprintf(`{"pressure":"1,%d5 bar"}`, i), map[string]float64{"pressure": 1.05 + x/10})
		say("text", fmt.Sprintf("%d,25;%d", 3+i, 1000+i),
			map[string]float64{"column_1": 3.25 + x, "column_2": 1000 + x})
		say("pairs", fmt.Sprintf("volts=12.%d amps=0.8", i), map[string]float64{"volts": 12 + x/10, "amps": 0.8})
		say("xml", fmt.Sprintf("<r><flow>3.%d</flow></r>", i), map[string]float64{"flow": 3 + x/10})
		say("senml", fmt.Sprintf(`[{"bn":"tank-%d/","n":"turbidity","u":"NTU","v":%d}]`, i, i),
			map[string]float64{"turbidity": x})
		say("depths", fmt.Sprintf(`{"depths":[14,%d]}`, 10+i), map[string]float64{"depths_1": 14, "depths_2": 10 + x})
	}
	return topics, values
}

// Someone new to it makes series of 60 registers and 40 topics, with six commands and nothing typed but names
// and what is expected.
func TestANewcomerCollectsRegistersAndTopics(t *testing.T) {
	t.Parallel()
	registers, named, wanted := takes()
	require.Len(t, registers, 60)
	topics, heard := said()
	require.Len(t, topics, 40)
	device, brokerPort, dir := "tcp://127.0.0.1:"+freePort(t), freePort(t), t.TempDir()
	server, err := modbus.NewServer(&modbus.ServerConfiguration{
		URL:        device,
		Timeout:    time.Minute,
		MaxClients: 5,
		Logger:     log.New(io.Discard, "", 0),
	}, registers)
	require.NoError(t, err)
	require.NoError(t, server.Start())
	t.Cleanup(func() { assert.NoError(t, server.Stop()) })
	program, err := binary()
	require.NoError(t, err)
	start(t, program, "simulate", "broker", "--listen", "127.0.0.1:"+brokerPort)
	eventually(t, "the broker is there", func() bool { return reachable(brokerPort) })
	publisher := paho.NewClient(paho.NewClientOptions().AddBroker("tcp://127.0.0.1:" + brokerPort).SetClientID("farm"))
	require.True(t, publisher.Connect().WaitTimeout(patience))
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	t.Cleanup(func() { cancel(); <-ended; publisher.Disconnect(100) })
	go func() {
		defer close(ended)
		for tick := time.NewTicker(200 * time.Millisecond); ; {
			for topic, text := range topics {
				publisher.Publish(topic, 1, false, text).WaitTimeout(time.Second)
			}
			select {
			case <-ctx.Done():
				tick.Stop()
				return
			case <-tick.C:
			}
		}
	}()

	file := filepath.Join(dir, "gateway.yaml")
	require.NoError(t,
		os.WriteFile(file, []byte("data: "+dir+"/data\nlisten: 127.0.0.1:0\ngateway:\n  site: site\n"), 0o600))
	run := func(args ...string) string {
		out, err := exec.CommandContext(t.Context(), program, args...).CombinedOutput()
		require.NoError(t, err, "%v: %s", args, out)
		return string(out)
	}
	probe := []string{"probe", device, "--count", "60", "--times", "2", "--every", "100ms"}
	page := run(probe...)
	assert.Contains(t, page, "uint16")
	assert.Less(t, strings.Count(page, "\n"), 70, "a line for each value")
	run(append(append(probe, named...), "--source-name", "panel", "--append-to", file, "--write")...)
	broker := []string{"watch", "tcp://127.0.0.1:" + brokerPort, "--for", "3s"}
	run(broker...)
	run(append(broker, "--source-name", "farm", "--append-to", file, "--write")...)
	assert.Contains(t, run("check", file), "good: gateway of site with 2 source(s)")
	_, gateway := service(t, dir, "gateway", func() string { text, _ := os.ReadFile(file); return string(text) }())

	for path, v := range heard {
		wanted[path] = v
	}
	got := map[string]float64{}
	eventually(t, "every series is there", func() bool {
		now, err := gateway.Now(t.Context(), "")
		require.NoError(t, err)
		for _, v := range now.Values {
			got[v.Path] = float64(v.Value)
		}
		return len(got) >= len(wanted)+5 // and five pumps
	})
	for path, v := range wanted {
		assert.InDelta(t, v, got[path], 1e-9, path)
	}
	states, err := gateway.Now(t.Context(), "site/+/pump")
	require.NoError(t, err)
	require.Len(t, states.Values, 5)
	assert.Equal(t, "on", states.Values[0].State)
}

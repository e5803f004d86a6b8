package sim

import (
	"fmt"
	"io"
	"log"
	"math"
	"net"
	"sync/atomic"
	"time"

	"github.com/simonvetter/modbus"
)

// Device is a simulated Modbus device. Answered counts its answers.
type Device struct {
	Address  string // tcp://host:port, or rtu+tcp://host:port
	Answered atomic.Uint64
	stop     func() error
}

// Close stops the device.
func (d *Device) Close() error { return d.stop() }

// image holds the present registers of a device, by unit id. A unit that is not
// in it does not answer.
type image map[uint8]tables

type tables struct {
	coils, discretes map[uint16]bool
	holdings, inputs map[uint16]uint16
}

// serve starts a device at host:port; port 0 finds a free one.
func serve(listen string, delay time.Duration, now func(time.Time) image) (*Device, error) {
	listen, err := freePort(listen)
	if err != nil {
		return nil, err
	}
	d := &Device{Address: "tcp://" + listen}
	server, err := modbus.NewServer(&modbus.ServerConfiguration{
		URL: d.Address, Timeout: time.Minute, MaxClients: 20, Logger: log.New(io.Discard, "", 0),
	}, &registers{d, delay, now})
	if err != nil {
		return nil, fmt.Errorf("simulated device at %s: %w", listen, err)
	}
	if err := server.Start(); err != nil {
		return nil, fmt.Errorf("simulated device at %s: %w", listen, err)
	}
	d.stop = server.Stop
	return d, nil
}

// freePort replaces port 0 by one that is free; the Modbus library cannot be asked
// which port it got.
func freePort(listen string) (string, error) {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return "", fmt.Errorf("simulated device: %w", err)
	}
	defer l.Close()
	return l.Addr().String(), nil
}

type registers struct {
	device *Device
	delay  time.Duration // how long the device, or the bus behind it, takes
	now    func(time.Time) image
}

func (r *registers) unit(id uint8) (tables, error) {
	time.Sleep(r.delay)
	t, ok := r.now(time.Now())[id]
	if !ok {
		return t, modbus.ErrGWTargetFailedToRespond
	}
	r.device.Answered.Add(1)
	return t, nil
}

func lookUp[T any](t tables, err error, from map[uint16]T, first, count uint16, write bool) ([]T, error) {
	if err != nil {
		return nil, err
	}
	if write {
		return nil, modbus.ErrIllegalFunction
	}
	out := make([]T, count)
	for i := range out {
		v, ok := from[first+uint16(i)]
		if !ok {
			return nil, modbus.ErrIllegalDataAddress
		}
		out[i] = v
	}
	return out, nil
}

func (r *registers) HandleCoils(q *modbus.CoilsRequest) ([]bool, error) {
	t, err := r.unit(q.UnitId)
	return lookUp(t, err, t.coils, q.Addr, q.Quantity, q.IsWrite)
}

func (r *registers) HandleDiscreteInputs(q *modbus.DiscreteInputsRequest) ([]bool, error) {
	t, err := r.unit(q.UnitId)
	return lookUp(t, err, t.discretes, q.Addr, q.Quantity, false)
}

func (r *registers) HandleHoldingRegisters(q *modbus.HoldingRegistersRequest) ([]uint16, error) {
	t, err := r.unit(q.UnitId)
	return lookUp(t, err, t.holdings, q.Addr, q.Quantity, q.IsWrite)
}

func (r *registers) HandleInputRegisters(q *modbus.InputRegistersRequest) ([]uint16, error) {
	t, err := r.unit(q.UnitId)
	return lookUp(t, err, t.inputs, q.Addr, q.Quantity, false)
}

// PumpPanel starts the pump panel of alder-weir: scaled 16-bit words, 32-bit totals
// with the low word first, 32-bit floats, coils and a discrete input, all of unit 1.
func PumpPanel(f Field, listen string) (*Device, error) {
	return serve(listen, 0, func(now time.Time) image {
		t := f.Clock(now)
		u := tables{coils: map[uint16]bool{}, discretes: map[uint16]bool{0: f.AlarmFloat(t) == 1}, holdings: map[uint16]uint16{
			0: uint16(math.Round(f.Inflow(t) * 10)),
			1: uint16(math.Round(f.TankLevel(t) * 100)),
			2: uint16(int16(math.Round(f.HatcheryTemp(t) * 100))),
		}, inputs: map[uint16]uint16{}}
		for pump := range 2 {
			p := uint16(pump)
			total := uint32(math.Round(f.PumpEnergy(t, pump) * 10))
			u.holdings[10+2*p], u.holdings[11+2*p] = uint16(total), uint16(total>>16)
			power := math.Float32bits(float32(f.PumpPower(t, pump)))
			u.inputs[2*p], u.inputs[2*p+1] = uint16(power>>16), uint16(power)
			u.coils[p] = f.PumpRunning(t, pump) == 1
		}
		return image{1: u}
	})
}

// Probes starts the oxygen probes of stony-beck, units 1 to 6 on one slow bus behind a
// converter to the network, and the aerators' switch box, unit 10.
func Probes(f Field, listen string) (*Device, error) {
	const bus = 4 * time.Millisecond
	return serveLine(listen, bus, func(now time.Time) image {
		t := f.Clock(now)
		out := image{10: tables{coils: map[uint16]bool{}}}
		for raceway := range Raceways {
			out[10].coils[uint16(raceway)] = f.Aerator(t, raceway) == 1
			if f.ProbeSilent(t, raceway) {
				continue
			}
			out[uint8(raceway+1)] = tables{inputs: map[uint16]uint16{
				0: uint16(int16(math.Round(f.ProbeOxygen(t, raceway) * 100))),
				1: uint16(int16(math.Round(f.RacewayTemp(t, raceway) * 100))),
				2: 0, // faults of the sensor
			}}
		}
		return out
	})
}

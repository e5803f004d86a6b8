package main

import (
	"bufio"
	"fmt"
	"io"
	"log"
	"net"
	"os"
	"os/exec"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/simonvetter/modbus"
)

// device answers for all units but the silent ones, which keep it waiting. It is the
// protocol library's server, in a process of its own: a device's answers do not wait
// for the turns of whoever asks.
type device struct {
	silentFrom uint8 // unit ids from here on do not answer; 0: all do
	takes      time.Duration
	answered   atomic.Uint64
}

func (d *device) HandleCoils(*modbus.CoilsRequest) ([]bool, error) {
	return nil, modbus.ErrIllegalFunction
}

func (d *device) HandleDiscreteInputs(*modbus.DiscreteInputsRequest) ([]bool, error) {
	return nil, modbus.ErrIllegalFunction
}

func (d *device) HandleInputRegisters(*modbus.InputRegistersRequest) ([]uint16, error) {
	return nil, modbus.ErrIllegalFunction
}

func (d *device) HandleHoldingRegisters(r *modbus.HoldingRegistersRequest) ([]uint16, error) {
	if d.silentFrom > 0 && r.UnitId >= d.silentFrom {
		time.Sleep(2 * time.Second) // longer than anybody waits
		return nil, modbus.ErrServerDeviceFailure
	}
	if d.takes > 0 {
		time.Sleep(d.takes)
	}
	d.answered.Add(1)
	out := make([]uint16, r.Quantity)
	for i := range out {
		out[i] = r.Addr + uint16(i)
	}
	return out, nil
}

// deviceProcess is the first argument of a process that is only a device.
const deviceProcess = "device"

// beDevice prints the address, then how much was answered for each line that comes in,
// until no more does.
func beDevice(silentFrom, takes string) error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	address := "tcp://" + l.Addr().String()
	l.Close() // the library wants to listen itself
	d := &device{}
	from, err := strconv.ParseUint(silentFrom, 10, 8)
	if err != nil {
		return err
	}
	d.silentFrom = uint8(from)
	if d.takes, err = time.ParseDuration(takes); err != nil {
		return err
	}
	server, err := modbus.NewServer(&modbus.ServerConfiguration{
		URL:        address,
		Timeout:    time.Minute,
		MaxClients: 50,
		Logger:     log.New(io.Discard, "", 0),
	}, d)
	if err != nil {
		return err
	}
	if err := server.Start(); err != nil {
		return err
	}
	fmt.Println(address)
	for asked := bufio.NewScanner(os.Stdin); asked.Scan(); {
		fmt.Println(d.answered.Load())
	}
	return server.Stop()
}

// remote is a device that runs.
type remote struct {
	address string
	process *exec.Cmd
	ask     io.WriteCloser
	says    *bufio.Scanner
}

func startDevice(silentFrom int, takes time.Duration) (*remote, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	r := &remote{process: exec.Command(self, deviceProcess, strconv.Itoa(silentFrom), takes.String())}
	r.process.Stderr = os.Stderr
	if r.ask, err = r.process.StdinPipe(); err != nil {
		return nil, err
	}
	out, err := r.process.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := r.process.Start(); err != nil {
		return nil, err
	}
	r.says = bufio.NewScanner(out)
	if !r.says.Scan() {
		return nil, fmt.Errorf("the device did not start: %w", r.stop())
	}
	r.address = r.says.Text()
	return r, nil
}

// answered returns how many requests it has answered.
func (r *remote) answered() (uint64, error) {
	if _, err := fmt.Fprintln(r.ask); err != nil {
		return 0, err
	}
	if !r.says.Scan() {
		return 0, fmt.Errorf("the device has ended: %w", r.says.Err())
	}
	return strconv.ParseUint(r.says.Text(), 10, 64)
}

// rate returns how many requests a second are answered while something runs.
func (r *remote) rate(during func() error) (float64, error) {
	before, err := r.answered()
	if err != nil {
		return 0, err
	}
	begun := time.Now()
	if err := during(); err != nil {
		return 0, err
	}
	after, err := r.answered()
	return float64(after-before) / time.Since(begun).Seconds(), err
}

func (r *remote) stop() error {
	r.ask.Close()
	return r.process.Wait()
}

package sim

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"github.com/simonvetter/modbus"
)

// converter puts a serial line on the network as it is: frames of Modbus over serial lines,
// in a TCP connection. Who is not on the line does not answer, and now and then a bit of an
// answer is lost on the way.
type converter struct {
	listener net.Listener
	units    *registers
	line     sync.Mutex // one frame at a time
	answers  int

	mu    sync.Mutex
	conns map[net.Conn]bool
}

// noisyEvery is how many answers come for one that is garbled.
const noisyEvery = 500

// serveLine starts a device behind a converter at host:port; port 0 finds a free one.
func serveLine(listen string, delay time.Duration, now func(time.Time) image) (*Device, error) {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, fmt.Errorf("simulated converter: %w", err)
	}
	d := &Device{Address: "rtu+tcp://" + l.Addr().String()}
	c := &converter{listener: l, units: &registers{d, delay, now}, conns: map[net.Conn]bool{}}
	d.stop = c.close
	go c.accept()
	return d, nil
}

func (c *converter) accept() {
	for {
		conn, err := c.listener.Accept()
		if err != nil {
			return // it is closed
		}
		c.mu.Lock()
		c.conns[conn] = true
		c.mu.Unlock()
		go c.serve(conn)
	}
}

func (c *converter) close() error {
	err := c.listener.Close()
	c.mu.Lock()
	defer c.mu.Unlock()
	for conn := range c.conns {
		err = errors.Join(err, conn.Close())
	}
	return err
}

// serve answers the requests of a connection, all of which are 8 bytes long: functions 1 to 4.
func (c *converter) serve(conn net.Conn) {
	defer func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		if c.conns[conn] {
			delete(c.conns, conn)
			conn.Close()
		}
	}()
	var frame [8]byte
	for {
		if _, err := io.ReadFull(conn, frame[:]); err != nil {
			return
		}
		if binary.LittleEndian.Uint16(frame[6:]) != checksum(frame[:6]) {
			return // out of step; a new connection begins anew
		}
		if answer := c.answer(frame); answer != nil {
			if _, err := conn.Write(answer); err != nil {
				return
			}
		}
	}
}

func (c *converter) answer(frame [8]byte) []byte {
	c.line.Lock()
	defer c.line.Unlock()
	unit, function := frame[0], frame[1]
	body, err := c.read(unit, function, binary.BigEndian.Uint16(frame[2:]), binary.BigEndian.Uint16(frame[4:]))
	if errors.Is(err, modbus.ErrGWTargetFailedToRespond) {
		return nil
	}
	out := []byte{unit, function, byte(len(body))}
	if err != nil {
		out = []byte{unit, function | 0x80, exceptionCode(err)}
	}
	out = append(out, body...)
	out = binary.LittleEndian.AppendUint16(out, checksum(out))
	if c.answers++; c.answers%noisyEvery == 0 {
		out[len(out)-1] ^= 1
	}
	return out
}

func (c *converter) read(unit, function byte, first, count uint16) ([]byte, error) {
	var bits []bool
	var words []uint16
	var err error
	switch function {
	case 1:
		bits, err = c.units.HandleCoils(&modbus.CoilsRequest{UnitId: unit, Addr: first, Quantity: count})
	case 2:
		bits, err = c.units.HandleDiscreteInputs(&modbus.DiscreteInputsRequest{UnitId: unit, Addr: first, Quantity: count})
	case 3:
		words, err = c.units.HandleHoldingRegisters(&modbus.HoldingRegistersRequest{UnitId: unit, Addr: first, Quantity: count})
	case 4:
		words, err = c.units.HandleInputRegisters(&modbus.InputRegistersRequest{UnitId: unit, Addr: first, Quantity: count})
	default:
		err = modbus.ErrIllegalFunction
	}
	body := make([]byte, (len(bits)+7)/8, 2*len(words)+(len(bits)+7)/8)
	for i, bit := range bits {
		if bit {
			body[i/8] |= 1 << (i % 8)
		}
	}
	for _, w := range words {
		body = binary.BigEndian.AppendUint16(body, w)
	}
	return body, err
}

func exceptionCode(err error) byte {
	switch {
	case errors.Is(err, modbus.ErrIllegalFunction):
		return 1
	case errors.Is(err, modbus.ErrIllegalDataAddress):
		return 2
	}
	return 4
}

// checksum returns the CRC of frames (Modbus over Serial Line 1.02, 6.2.2).
func checksum(frame []byte) uint16 {
	crc := uint16(0xffff)
	for _, b := range frame {
		crc ^= uint16(b)
		for range 8 {
			low := crc & 1
			crc >>= 1
			if low == 1 {
				crc ^= 0xa001
			}
		}
	}
	return crc
}

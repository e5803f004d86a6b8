package main

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
)

// dialer makes a connection to what is measured.
type dialer func() (net.Conn, error)

func plainly(address string) dialer {
	return func() (net.Conn, error) { return net.Dial("tcp", address) }
}

// publishAll runs all publishers against an MQTT server for a round, and is the
// number of messages acknowledged and how many that is per second.
func publishAll(dial dialer, of says) (acked uint64, perSecond float64, err error) {
	var count atomic.Uint64
	var wait sync.WaitGroup
	failures := make(chan error, publishers)
	begun := time.Now()
	until := begun.Add(roundLength)
	for i := range publishers {
		wait.Add(1)
		go func() {
			defer wait.Done()
			if err := publish(dial, fmt.Sprintf("buoy-%d", i+1), of, until, &count); err != nil {
				failures <- err
			}
		}()
	}
	wait.Wait()
	took := time.Since(begun)
	close(failures)
	return count.Load(), float64(count.Load()) / took.Seconds(), <-failures
}

// publish sends until the time is up, never more than inFlight messages ahead of the
// acknowledgements, and returns when all are acknowledged. It is as cheap as it can
// be made: what it costs is missing to the servers, which share the machine.
func publish(dial dialer, name string, of says, until time.Time, acked *atomic.Uint64) error {
	conn, err := dial()
	if err != nil {
		return err
	}
	defer conn.Close()
	in, out := bufio.NewReaderSize(conn, 1<<16), bufio.NewWriterSize(conn, 1<<16)
	if err := connect(in, out, name); err != nil {
		return err
	}
	room := make(chan struct{}, inFlight)
	received := make(chan error, 1)
	sent := make(chan int, 1)
	go func() { received <- receive(in, room, sent, acked) }()
	n := 0
	var buffer []byte
	for time.Now().Before(until) {
		select {
		case room <- struct{}{}:
		default:
			if err := out.Flush(); err != nil { // the other end must see it before there is room
				return err
			}
			select {
			case room <- struct{}{}:
			case err := <-received:
				return err
			}
		}
		buffer = appendPublish(buffer[:0], name, of, n)
		if _, err := out.Write(buffer); err != nil {
			return err
		}
		n++
	}
	if err := out.Flush(); err != nil {
		return err
	}
	sent <- n
	return <-received
}

func connect(in *bufio.Reader, out *bufio.Writer, name string) error {
	body := append([]byte{0, 4, 'M', 'Q', 'T', 'T', 4, 2, 0, 60, 0, byte(len(name))}, name...)
	if _, err := out.Write(append([]byte{0x10, byte(len(body))}, body...)); err != nil {
		return err
	}
	if err := out.Flush(); err != nil {
		return err
	}
	var answer [4]byte
	if _, err := io.ReadFull(in, answer[:]); err != nil {
		return err
	}
	if answer[0] != packets.Connack<<4 || answer[3] != 0 {
		return fmt.Errorf("the server answered CONNECT with % x", answer)
	}
	return nil
}

// says returns message n of a publisher.
type says func(n int) []byte

// threeFields are values of a buoy, of now.
func threeFields(n int) []byte {
	return fmt.Appendf(nil, `{"temp":%d.%02d,"oxygen":9.%02d,"battery":12.%d}`, 8+n%7, n%100, n*7%100, n%10)
}

// timed are values that change slowly, one a second from a time on.
func timed(from time.Time) says {
	return func(n int) []byte {
		return fmt.Appendf(nil, `{"at":%d,"temp":%d.%02d,"oxygen":9.%02d,"battery":12.%d}`,
			from.UnixMilli()+int64(n)*1000, 8+n/700%7, n/7%100, n/11%100, n%10)
	}
}

// appendPublish writes a QoS 1 PUBLISH of MQTT 3.1.1.
func appendPublish(b []byte, name string, of says, n int) []byte {
	topic := "buoy/" + name + "/state"
	payload := of(n)
	length := 2 + len(topic) + 2 + len(payload)
	id := n%65535 + 1
	b = append(b, 0x32, byte(length), byte(len(topic)>>8), byte(len(topic)))
	b = append(b, topic...)
	b = append(b, byte(id>>8), byte(id))
	return append(b, payload...)
}

// receive takes acknowledgements until all that were sent are acknowledged.
func receive(in *bufio.Reader, room <-chan struct{}, sent <-chan int, acked *atomic.Uint64) error {
	total := -1
	for n := 0; n != total; {
		if total < 0 {
			select {
			case total = <-sent:
				continue
			default:
			}
		}
		if total < 0 && len(room) == 0 {
			time.Sleep(10 * time.Microsecond)
			continue
		}
		var ack [4]byte
		if _, err := io.ReadFull(in, ack[:]); err != nil {
			return fmt.Errorf("after %d acknowledgements: %w", n, err)
		}
		if ack[0] != packets.Puback<<4 {
			return fmt.Errorf("the server sent packet % x where an acknowledgement should be", ack)
		}
		n++
		<-room
		acked.Add(1)
	}
	return nil
}

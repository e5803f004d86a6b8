package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"nexocumula/client"
)

// These rows run the binary as a process of its own and ask the kernel what it cost:
// bytes handed to the disk (write_bytes of /proc/PID/io), processor time and the most
// memory it ever had. The reference says what the readings themselves weigh, 16 bytes
// each, or what one core and one bare sync are.

const wearFor = 3 * time.Minute

// process is a running service.
type process struct {
	cmd     *exec.Cmd
	address string // of its HTTP interface
}

func binary() string {
	if b := os.Getenv("NEXOCUMULA_BINARY"); b != "" {
		return b
	}
	return "build/nexocumula"
}

func startProcess(dir, name, configuration string) (*process, error) {
	file := filepath.Join(dir, name+".yaml")
	if err := os.WriteFile(file, []byte(configuration), 0o600); err != nil {
		return nil, err
	}
	return launch(exec.Command(binary(), "run", "--config", file), "interface at ")
}

func startDemo(dir string) (*process, error) {
	return launch(exec.Command(binary(), "demo", "--dir", filepath.Join(dir, "demo"), "--console", "127.0.0.1:0"),
		"http://")
}

// launch starts a program and waits until it says something.
func launch(cmd *exec.Cmd, says string) (*process, error) {
	p := &process{cmd: cmd}
	out, err := p.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := p.cmd.Start(); err != nil {
		return nil, err
	}
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if _, address, ok := strings.Cut(lines.Text(), says); ok {
			p.address = address
			go func() {
				for lines.Scan() {
				}
			}()
			return p, nil
		}
	}
	_ = p.cmd.Wait() // it said why itself
	return nil, fmt.Errorf("%s did not start", strings.Join(cmd.Args, " "))
}

func (p *process) stop() error {
	if err := p.cmd.Process.Signal(syscall.SIGTERM); err != nil {
		return err
	}
	return p.cmd.Wait()
}

// cost is a process's use of resources so far.
type cost struct {
	written float64 // bytes
	cpu     float64 // seconds
	peak    float64 // bytes of memory, the most there was
	at      time.Time
}

func (p *process) cost() (c cost, err error) {
	proc := fmt.Sprintf("/proc/%d/", p.cmd.Process.Pid)
	if c.written, err = field(proc+"io", "write_bytes:"); err != nil {
		return c, err
	}
	if c.peak, err = field(proc+"status", "VmHWM:"); err != nil {
		return c, err
	}
	c.peak *= 1024
	if c.cpu, err = onProcessor(proc + "task/"); err != nil {
		return c, err
	}
	c.at = time.Now()
	return c, nil
}

// onProcessor returns the seconds that the threads of a process ran. The kernel knows them to
// the nanosecond; its older count in clock ticks gives whole ticks to whoever runs when
// one ends, which are those that timers wake.
func onProcessor(tasks string) (seconds float64, err error) {
	all, err := os.ReadDir(tasks)
	if err != nil {
		return 0, err
	}
	for _, task := range all {
		text, err := os.ReadFile(tasks + task.Name() + "/schedstat")
		if err != nil {
			return 0, err
		}
		ran, err := strconv.ParseFloat(strings.Fields(string(text))[0], 64)
		if err != nil {
			return 0, err
		}
		seconds += ran / 1e9
	}
	return seconds, nil
}

func field(file, name string) (float64, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, name); ok {
			return strconv.ParseFloat(strings.Fields(rest)[0], 64)
		}
	}
	return 0, fmt.Errorf("%s has no %s", file, name)
}

const wearGateway = `
data: %s
listen: 127.0.0.1:0
gateway:
  site: bench
  sources:
    - name: field
      mqtt_listener:
        address: %s
        messages:
          - { topic: "{station}/{quantity}", payload: number, series: "{station}/{quantity}" }
%s`

const wearUplink = `  uplinks:
    - { name: office, address: "%s", secret_env: BENCH_SECRET }
`

const wearCentral = `
data: %s
listen: 127.0.0.1:0
central:
  accept:
%s`

// worn is the cost of a gateway and its central under a load, over minutes.
type worn struct {
	gateway, central [2]cost // before and after
	readings         float64
}

func (w worn) perReading() float64 { return (w.gateway[1].written - w.gateway[0].written) / w.readings }

func (w worn) cores(of [2]cost) float64 {
	return (of[1].cpu - of[0].cpu) / of[1].at.Sub(of[0].at).Seconds()
}

// wear runs a gateway with an uplink to a central and sends it series readings every
// period, each in a message of its own, from clients connections.
func wear(dir string, series int, period time.Duration, clients int, burst bool) (w worn, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return w, err
	}
	if err := os.Setenv("BENCH_SECRET", "bench"); err != nil {
		return w, err
	}
	c, err := startProcess(dir, "central",
		fmt.Sprintf(wearCentral, filepath.Join(dir, "c"), "    - { gateway: bench, secret_env: BENCH_SECRET }\n"))
	if err != nil {
		return w, err
	}
	defer c.stop()
	listen, err := freePort()
	if err != nil {
		return w, err
	}
	g, err := startProcess(dir, "gateway",
		fmt.Sprintf(wearGateway, filepath.Join(dir, "g"), listen, fmt.Sprintf(wearUplink, c.address)))
	if err != nil {
		return w, err
	}
	defer g.stop()
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var wait sync.WaitGroup
	defer wait.Wait()
	defer cancel()
	failed := make(chan error, clients)
	for k := range clients {
		wait.Go(func() {
			if err := speak(ctx, listen, k, clients, series, period, burst, func(time.Duration) {}); err != nil &&
				ctx.Err() == nil {
				failed <- err
			}
		})
	}
	warm := 2*period + 15*time.Second
	if err := rest(warm, failed); err != nil {
		return w, err
	}
	before, err := accepted(g)
	if err != nil {
		return w, err
	}
	if w.gateway[0], err = g.cost(); err != nil {
		return w, err
	}
	if w.central[0], err = c.cost(); err != nil {
		return w, err
	}
	if err := rest(wearFor, failed); err != nil {
		return w, err
	}
	after, err := accepted(g)
	if err != nil {
		return w, err
	}
	if w.gateway[1], err = g.cost(); err != nil {
		return w, err
	}
	w.central[1], err = c.cost()
	w.readings = float64(after - before)
	if want := float64(series) * wearFor.Seconds() / period.Seconds(); w.readings < 0.95*want {
		return w, fmt.Errorf("%v of %v readings were accepted", w.readings, want)
	}
	return w, err
}

func rest(d time.Duration, failed <-chan error) error {
	select {
	case err := <-failed:
		return err
	case <-time.After(d):
		return nil
	}
}

func accepted(p *process) (uint64, error) {
	h, err := client.New(p.address).Health(context.Background())
	if err != nil {
		return 0, err
	}
	return h.Gateway.Accepted, nil
}

func freePort() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer l.Close()
	return l.Addr().String(), nil
}

// speak is one connection: it publishes its share of the series once a period, with QoS 1,
// without waiting for one acknowledgement before the next message; acked is told how long each took.
func speak(ctx context.Context, address string, k, clients, series int, period time.Duration, burst bool, acked func(time.Duration)) error {
	var conn net.Conn
	var err error
	for range 100 { // the listener opens a moment after the service says that it runs
		if conn, err = net.Dial("tcp", address); err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if err != nil {
		return err
	}
	defer conn.Close()
	in, out := bufio.NewReader(conn), bufio.NewWriter(conn)
	if err := connect(in, out, fmt.Sprintf("wear-%d", k)); err != nil {
		return err
	}
	var sent [1 << 16]atomic.Int64 // by packet identifier
	go func() {
		var ack [4]byte
		for {
			if _, err := io.ReadFull(in, ack[:]); err != nil {
				return
			}
			acked(time.Duration(time.Now().UnixNano() - sent[int(ack[2])<<8|int(ack[3])].Load()))
		}
	}()
	begun := time.Now()
	id := uint16(0)
	for n := 0; ; n++ {
		for i := k; i < series; i += clients {
			at := begun.Add(time.Duration(n) * period)
			if !burst {
				at = at.Add(period * time.Duration(i) / time.Duration(series))
			}
			select {
			case <-time.After(time.Until(at)):
			case <-ctx.Done():
				return nil
			}
			if id++; id == 0 {
				id = 1
			}
			topic := fmt.Sprintf("station-%d/quantity-%d", i/10, i%10)
			payload := fmt.Appendf(nil, "%.2f", 8+float64((i*7+n*13)%400)/100)
			message := append([]byte{
				0x32, byte(2 + len(topic) + 2 + len(payload)), byte(len(topic) >> 8), byte(len(topic)),
			}, topic...)
			message = append(append(message, byte(id>>8), byte(id)), payload...)
			sent[id].Store(time.Now().UnixNano())
			if _, err := out.Write(message); err != nil {
				return err
			}
			if err := out.Flush(); err != nil {
				return err
			}
		}
	}
}

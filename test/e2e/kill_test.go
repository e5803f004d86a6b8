package e2e

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/rounds"
)

const killed = `data: %[1]s/data
listen: 127.0.0.1:%[2]s
gateway:
  site: stony-beck
  series: [{ select: "#", unit: m, low: -1, high: %[5]d }]
  sources:
    - name: scripts
      http_push: { senders: [{ name: lake, secret_file: %[1]s/secret }] }
    - name: meter
      modbus:
        address: tcp://%[4]s
        every: 100ms
        registers: [{ unit: 1, table: input, address: 0, type: uint32, series: raceway-4/level }]
    - name: own
      mqtt_listener:
        address: 127.0.0.1:%[3]s
        messages: [{ topic: "s/{n}", payload: json, values: [{ at: /v, series: "{n}/level" }], time: /t, time_form: unix_s }]
`

// sender sends values that count up, ten seconds apart, and goes on with the same until it is acknowledged.
type sender struct {
	series string
	send   func(ctx context.Context, at time.Time, value int) error
	done   atomic.Int64 // values from 0 that were acknowledged
}

func (s *sender) run(ctx context.Context, begin time.Time) {
	for ctx.Err() == nil {
		value := int(s.done.Load())
		if s.send(ctx, begin.Add(time.Duration(value)*10*time.Second), value) == nil {
			s.done.Add(1)
		}
		time.Sleep(4 * time.Millisecond) // the day has room for 8,000
	}
}

func pushes(base, series string) *sender {
	return &sender{series: "stony-beck/" + series, send: func(ctx context.Context, at time.Time, value int) error {
		request, err := http.NewRequestWithContext(ctx, http.MethodPost, base+"/api/v1/readings",
			strings.NewReader(fmt.Sprintf("series,time,value,unit\n%s,%s,%d,m\n", series, at.Format(time.RFC3339), value)))
		if err != nil {
			return err
		}
		request.Header.Set("Authorization", "Bearer salmon run at dawn")
		request.Header.Set("Content-Type", "text/csv")
		request.Header.Set("Idempotency-Key", fmt.Sprintf("%s-%d", series, value))
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			return err
		}
		defer answer.Body.Close()
		if text, err := io.ReadAll(answer.Body); err != nil || answer.StatusCode != http.StatusOK {
			return fmt.Errorf("%s: %s", answer.Status, text)
		}
		return nil
	}}
}

func publishes(broker, station string, qos byte) *sender {
	var c paho.Client
	return &sender{series: "stony-beck/" + station + "/level", send: func(_ context.Context, at time.Time, value int) error {
		if c == nil || !c.IsConnected() {
			c = paho.NewClient(paho.NewClientOptions().AddBroker("tcp://" + broker).SetClientID(station).SetAutoReconnect(false).SetConnectTimeout(time.Second))
			if t := c.Connect(); !t.WaitTimeout(time.Second) || t.Error() != nil {
				return fmt.Errorf("no connection: %w", t.Error())
			}
		}
		t := c.Publish("s/"+station, qos, false, fmt.Sprintf(`{"t":%d,"v":%d}`, at.Unix(), value))
		for !t.WaitTimeout(20 * time.Millisecond) {
			if !c.IsConnectionOpen() {
				return fmt.Errorf("the connection broke")
			}
		}
		return t.Error()
	}}
}

// A gateway is killed at random instants while senders of all kinds send, a device is polled, history is imported, and people
// write, ask and reload: what was acknowledged is there, and what
// was sent again counts once; the summaries are those of the readings.
func TestKillsLoseAndDoubleNothing(t *testing.T) {
	t.Parallel()
	dir, port, listen := t.TempDir(), freePort(t), freePort(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("salmon run at dawn"), 0o600))
	device, meter := counting(t)
	const high = 1_000_000 // rises with each reload
	config := func(reloads int64) string { return fmt.Sprintf(killed, dir, port, listen, meter, high+reloads) }
	base, broker := "http://127.0.0.1:"+port, "127.0.0.1:"+listen
	begin := time.Now().UTC().Add(-23 * time.Hour).Truncate(time.Hour)
	senders := []*sender{
		pushes(base, "raceway-1/level"), publishes(broker, "raceway-2", 1), publishes(broker, "raceway-3", 2),
	}
	ctx, stop := context.WithCancel(t.Context())
	var sending sync.WaitGroup
	for _, s := range senders {
		sending.Go(func() { s.run(ctx, begin) })
	}
	others := &company{t: t, base: base, begin: begin, config: config, file: filepath.Join(dir, "gateway.yaml")}
	in, bring := others.bring(ctx)
	for _, do := range []func(){
		bring, func() { others.writes(ctx) }, func() { others.reload(ctx) }, func() { others.ask(ctx, senders[0]) },
	} {
		sending.Go(do)
	}
	const seed = 41
	random := rand.New(rand.NewPCG(seed, 1))
	kills := rounds.Of(10)
	for range kills {
		p, _ := service(t, dir, "gateway", config(others.reloads.Load()))
		time.Sleep(time.Duration(random.IntN(700)) * time.Millisecond)
		p.kill()
	}
	_, gateway := service(t, dir, "gateway", config(others.reloads.Load()))
	for _, s := range senders {
		before := s.done.Load()
		eventually(t, "each goes on", func() bool { return s.done.Load() > before+20 })
	}
	eventually(t, "the import is through", in.Load)
	reloads := others.reloads.Load()
	eventually(t, "it is reloaded", func() bool { return others.reloads.Load() > reloads })
	stop()
	sending.Wait()

	lost, doubled := others.has(gateway)
	readings, again, wrong := polled(t, gateway, "stony-beck/raceway-4/level", device.reads.Load())
	doubled += again
	past := begin.AddDate(0, -1, 0)
	history, err := gateway.Windows(t.Context(), client.WindowsQuery{
		Select: []string{"stony-beck/raceway-5/level"}, From: past, To: past.AddDate(0, 0, 7), Width: "whole", Stats: []string{"count", "sum"},
	})
	require.NoError(t, err)
	assert.EqualValues(t, imported, history.Series[0].Values["count"][0])
	assert.EqualValues(t, imported*(imported-1)/2, history.Series[0].Values["sum"][0])
	readings += imported
	for _, s := range senders {
		answer, err := gateway.Readings(t.Context(), client.ReadingsQuery{Select: s.series, From: begin, To: begin.Add(24 * time.Hour), Most: 20_000})
		require.NoError(t, err)
		seen := map[int]int{}
		for _, r := range answer.Series[0].Readings {
			seen[int(r.Value)]++
			if !r.Time.Equal(begin.Add(time.Duration(r.Value) * 10 * time.Second)) {
				wrong++
			}
		}
		for value := range int(s.done.Load()) {
			if seen[value] == 0 {
				lost++
			}
		}
		for _, n := range seen {
			if n > 1 {
				doubled++
			}
		}
		readings += len(seen)
		windows, err := gateway.Windows(t.Context(), client.WindowsQuery{
			Select: []string{s.series}, From: begin, To: begin.Add(24 * time.Hour), Width: "whole", Stats: []string{"count", "sum", "max"},
		})
		require.NoError(t, err)
		n := float64(len(seen))
		of := windows.Series[0].Values
		if float64(of["count"][0]) != n || float64(of["sum"][0]) != n*(n-1)/2 || float64(of["max"][0]) != n-1 {
			wrong++
			t.Errorf("%s: windows say count %v, sum %v, max %v of %v readings", s.series, of["count"][0], of["sum"][0], of["max"][0], n)
		}
	}
	assert.Contains(t, newPerson(t, base).does("", "verify", "--config", filepath.Join(dir, "gateway.yaml")), "All is whole: 5 series, ")
	health, err := gateway.Health(t.Context())
	require.NoError(t, err)
	assert.Zero(t, health.Damaged)
	silent := int(others.silent.Load())
	t.Logf("seed %d: kills %d, reloads %d, answers %d, notes, boards and accounts %d, readings %d, lost %d, doubled %d, wrong %d, silent %d",
		seed, kills, others.reloads.Load(), others.asked.Load(), len(others.kept.all), readings, lost, doubled, wrong, silent)
	assert.Zero(t, lost+doubled+wrong+silent)
}

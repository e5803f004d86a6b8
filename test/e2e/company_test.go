package e2e

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/simonvetter/modbus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/rounds"
)

// company is what people and devices do with a service that is killed, beside its senders.
type company struct {
	t      *testing.T
	base   string
	begin  time.Time // of the readings
	config func(reloads int64) string
	file   string

	kept    promised     // notes, boards and accounts that were acknowledged
	reloads atomic.Int64 // that were acknowledged
	asked   atomic.Int64 // windows that were answered
	silent  atomic.Int64 // of them, those that left out what had been acknowledged before
}

// again does something until ctx ends, whether it works or not.
func again(ctx context.Context, every time.Duration, do func(n int)) {
	for n := 0; ctx.Err() == nil; n++ {
		do(n)
		select {
		case <-time.After(every):
		case <-ctx.Done():
		}
	}
}

// writes pins notes, saves boards and makes accounts.
func (b *company) writes(ctx context.Context) {
	c := client.New(b.base)
	again(ctx, max(30, 8*time.Duration(rounds.Of(1)))*time.Millisecond, func(n int) { // there is room for 500 boards
		what, err := fmt.Sprintf("note %d", n), error(nil)
		switch n % 3 {
		case 0:
			_, err = c.AddNote(ctx, client.NewNote{About: "stony-beck/raceway-1", Text: what})
		case 1:
			what = fmt.Sprintf("board %d", n)
			_, err = c.AddBoard(ctx, client.Board{
				Form: client.BoardForm, Title: what, Lanes: []client.BoardLane{{Kind: "text", Text: what}},
			})
		case 2:
			what = fmt.Sprintf("ranger-%d", n)
			_, err = c.AddAccount(ctx, client.NewAccount{Name: what, Role: "viewer"})
		}
		refused := &client.Error{}
		if errors.As(err, &refused) && refused.Status < 500 {
			assert.NoError(b.t, err, what)
		}
		if err == nil {
			b.kept.note(what)
		}
	})
}

// reload changes the file and has it taken.
func (b *company) reload(ctx context.Context) {
	c := client.New(b.base)
	again(ctx, 100*time.Millisecond, func(int) {
		next := b.file + ".next"
		if os.WriteFile(next, []byte(b.config(b.reloads.Load()+1)), 0o600) != nil || os.Rename(next, b.file) != nil {
			return
		}
		if _, err := c.Reload(ctx); err == nil {
			b.reloads.Add(1)
		}
	})
}

// ask asks for windows, which have everything that was acknowledged before.
func (b *company) ask(ctx context.Context, of *sender) {
	c := client.New(b.base)
	again(ctx, 20*time.Millisecond, func(int) {
		before := of.done.Load()
		answer, err := c.Windows(ctx, client.WindowsQuery{
			Select: []string{of.series}, From: b.begin, To: b.begin.Add(24 * time.Hour), Width: "whole", Stats: []string{"count"},
		})
		if err != nil || before == 0 {
			return
		}
		b.asked.Add(1)
		if float64(answer.Series[0].Values["count"][0]) < float64(before) {
			b.silent.Add(1)
		}
	})
}

const imported = 20_000

// bring imports a file, again and again until it is in.
func (b *company) bring(ctx context.Context) (in *atomic.Bool, bring func()) {
	var text strings.Builder
	text.WriteString("time;level\n")
	for i := range imported {
		fmt.Fprintf(&text, "%s;%d\n", b.begin.AddDate(0, -1, 0).Add(time.Duration(i)*10*time.Second).Format(time.RFC3339), i)
	}
	file := filepath.Join(filepath.Dir(b.file), "history.csv")
	require.NoError(b.t, os.WriteFile(file, []byte(text.String()), 0o600))
	by := newPerson(b.t, b.base)
	in = &atomic.Bool{}
	return in, func() {
		again(ctx, 50*time.Millisecond, func(int) {
			if in.Load() {
				return
			}
			out, err := by.run("", "import", "--token-file", filepath.Join(filepath.Dir(b.file), "secret"), "--separator", ";",
				"--time-column", "time", "--column", "level=raceway-5/level", "--most-per-second", "4000", file)
			var exit *exec.ExitError
			if errors.As(err, &exit) && exit.ExitCode() == 2 {
				assert.NoError(b.t, err, out)
			}
			in.Store(err == nil)
		})
	}
}

// has counts what was acknowledged and is not there, or twice.
func (b *company) has(c *client.Client) (lost, doubled int) {
	there := map[string]int{}
	notes, err := c.Notes(b.t.Context(), "", "")
	require.NoError(b.t, err)
	for _, n := range notes.Notes {
		there[n.Text]++
	}
	boards, err := c.Boards(b.t.Context(), "")
	require.NoError(b.t, err)
	for _, one := range boards.Boards {
		there[one.Title]++
	}
	accounts, err := c.Accounts(b.t.Context())
	require.NoError(b.t, err)
	for _, one := range accounts.Accounts {
		there[one.Name]++
	}
	for _, one := range b.kept.all {
		switch there[one.what] {
		case 0:
			lost++
			b.t.Logf("%s is lost", one.what)
		case 1:
		default:
			doubled++
			b.t.Logf("%s is there %d times", one.what, there[one.what])
		}
	}
	return lost, doubled
}

// tally is a Modbus device with a register that counts how often it was read.
type tally struct {
	modbus.RequestHandler
	reads atomic.Uint32
}

func (c *tally) HandleInputRegisters(*modbus.InputRegistersRequest) ([]uint16, error) {
	n := c.reads.Add(1)
	return []uint16{uint16(n >> 16), uint16(n)}, nil
}

// counting starts such a device.
func counting(t *testing.T) (device *tally, address string) {
	t.Helper()
	device, address = &tally{}, net.JoinHostPort("127.0.0.1", freePort(t))
	server, err := modbus.NewServer(&modbus.ServerConfiguration{URL: "tcp://" + address, Timeout: time.Minute, MaxClients: 100}, device)
	require.NoError(t, err)
	require.NoError(t, server.Start())
	t.Cleanup(func() { _ = server.Stop() })
	return device, address
}

// polled counts what was stored twice of a counting device, and what it never said.
func polled(t *testing.T, c *client.Client, series string, said uint32) (readings, doubled, wrong int) {
	t.Helper()
	answer, err := c.Readings(t.Context(), client.ReadingsQuery{Select: series, From: time.Now().Add(-time.Hour), To: time.Now().Add(time.Hour), Most: 100_000})
	require.NoError(t, err)
	last := 0.0
	for _, r := range answer.Series[0].Readings {
		switch v := float64(r.Value); {
		case v == last:
			doubled++
		case v < last || v > float64(said):
			wrong++
		default:
			last = v
		}
	}
	return len(answer.Series[0].Readings), doubled, wrong
}

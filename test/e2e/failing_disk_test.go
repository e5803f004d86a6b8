package e2e

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/rounds"
)

// faults are what a disk does for a while, as strace injects it; %d is the call of a thread with which it begins, and
// the one with which it ends.
var faults = []struct{ name, inject string }{
	{"writes fail", "pwrite64:error=EIO:when=%d..%d"},
	{"syncs fail", "fdatasync,fsync:error=EIO:when=%d..%d"},
	{"reads fail", "pread64:error=EIO:when=%d..%d"},
	{"the disk is full", "pwrite64:error=ENOSPC:when=%d..%d"},
	{"nothing may be written", "pwrite64,ftruncate:error=EROFS:when=%d..%d"},
	{"a sync takes five seconds", "fdatasync,fsync:delay_enter=5s:when=%d..%d"},
}

// fail has the files of a service's store fail for a while.
func fail(t *testing.T, p *process, data, inject string) {
	t.Helper()
	strace, err := exec.LookPath("strace")
	require.NoError(t, err, "the tests need it")
	if out, err := exec.Command(strace, "-o", os.DevNull, "true").CombinedOutput(); err != nil {
		t.Skipf("no process may be traced here: %s", out)
	}
	store := filepath.Join(data, "nexocumula.db")
	injecting := start(t, strace, "-f", "-o", os.DevNull, "-P", store, "-P", store+"-wal", "-e", "inject="+inject,
		"-p", fmt.Sprint(p.cmd.Process.Pid))
	eventually(t, "it is traced", func() bool { return strings.Contains(injecting.output.String(), "attached") })
}

// TestADiskThatFailsForAWhileLosesNothingAcknowledged has the store's files fail while readings come. What is not
// acknowledged is sent again, as devices do. Then the service is killed; the next start, on a disk that is well, has all
// that was acknowledged, once, and finds nothing damaged.
func TestADiskThatFailsForAWhileLosesNothingAcknowledged(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(29, 5))
	for round := range rounds.Of(1) {
		for _, fault := range faults {
			first := 1 + r.IntN(8)
			last := first + r.IntN(5) // after each the service waits a little longer
			if strings.Contains(fault.inject, "delay") {
				last = first
			}
			t.Run(fmt.Sprintf("%s, round %d", fault.name, round), func(t *testing.T) {
				t.Parallel()
				failFor(t, fmt.Sprintf(fault.inject, first, last))
			})
		}
	}
}

func failFor(t *testing.T, inject string) {
	dir, err := os.MkdirTemp("", "disk") // the name of the test has a comma, which ends a path in the configuration
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	for name, text := range map[string]string{"secret": "salmon run at dawn", "link": "a stone in the river 77"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	text := fmt.Sprintf(copied, dir, "data", freePort(t))
	p, gateway := service(t, dir, "gateway", text)
	fail(t, p, filepath.Join(dir, "data"), inject)
	address := gateway.Base()
	begin := time.Now().UTC().Add(-20 * time.Hour).Truncate(time.Hour)
	const readings = 150
	tries, deadline := 0, time.Now().Add(patience)
	short := &http.Client{Timeout: 15 * time.Second}
	for i := 0; i < readings && time.Now().Before(deadline); tries++ {
		at := begin.Add(time.Duration(i) * 10 * time.Second)
		request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, address+"/api/v1/readings",
			strings.NewReader(fmt.Sprintf(`[{"n":"raceway-1/oxygen","u":"mg/l","t":%d,"v":%d}]`, at.Unix(), i)))
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer salmon run at dawn")
		request.Header.Set("Content-Type", "application/senml+json")
		answer, err := short.Do(request)
		if err != nil {
			continue
		}
		answer.Body.Close()
		if answer.StatusCode == http.StatusOK {
			i++
		}
		if i%10 == 0 { // somebody reads meanwhile, and may be told that it cannot be read
			if answer, err := short.Get(address + "/api/v1/windows?select=%23&last=1d&width=1h&stats=mean"); err == nil {
				answer.Body.Close()
			}
		}
	}
	require.Less(t, time.Now(), deadline, "it goes on by itself once the disk is well")
	if !strings.Contains(inject, "pread64") && !strings.Contains(inject, "delay") {
		assert.Contains(t, p.output.String(), "event=store.unwritten", "it did fail")
	}
	p.kill()
	_, again := service(t, dir, "gateway", text)
	got, err := again.Readings(t.Context(), client.ReadingsQuery{
		Select: "stony-beck/raceway-1/oxygen", From: begin, To: begin.Add(time.Hour), Most: 1000,
	})
	require.NoError(t, err)
	require.Len(t, got.Series, 1)
	var values []float64
	for _, one := range got.Series[0].Readings {
		values = append(values, float64(one.Value))
	}
	wanted := make([]float64, readings)
	for i := range wanted {
		wanted[i] = float64(i)
	}
	assert.Equal(t, wanted, values, "%d tries", tries)
	health, err := again.Health(t.Context())
	require.NoError(t, err)
	assert.Zero(t, health.Damaged)
}

// TestARemovalAndARenameAreDoneOnceThoughTheDiskFails has the disk fail while a part of a series is removed, and
// while its station is renamed, and then kills the service. What was said to be done or recorded is done by the next
// start; asking again for what failed does it once, and in the end the central has the same.
func TestARemovalAndARenameAreDoneOnceThoughTheDiskFails(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(29, 8))
	for round := range rounds.Of(1) {
		for _, fault := range faults[:4] {
			first := 1 + r.IntN(3)
			inject := fmt.Sprintf(fault.inject, first, first+2+r.IntN(3))
			t.Run(fmt.Sprintf("%s in round %d", fault.name, round), func(t *testing.T) {
				t.Parallel()
				changeWhileItFails(t, inject)
			})
		}
	}
}

func changeWhileItFails(t *testing.T, inject string) {
	p := newPair(t)
	begin := time.Now().UTC().Add(-5 * time.Hour).Truncate(time.Hour)
	at := func(minute int) time.Time { return begin.Add(time.Duration(minute) * time.Minute) }
	var times []time.Time
	for minute := range 120 {
		times = append(times, at(minute))
	}
	pushAt(t, p.gateway.Base(), times)
	counted := func(c *client.Client) map[string]float64 {
		out := map[string]float64{}
		windows, err := c.Windows(t.Context(), client.WindowsQuery{
			Select: []string{"stony-beck/#"}, From: begin, To: at(120), Width: "whole", Stats: []string{"count"},
		})
		if err != nil {
			return out
		}
		for _, s := range windows.Series {
			out[s.Name] = s.Values["count"][0]
		}
		return out
	}
	all := map[string]float64{"stony-beck/raceway-1/oxygen": 120}
	less := map[string]float64{"stony-beck/raceway-1/oxygen": 90}
	renamed := map[string]float64{"stony-beck/raceway-9/oxygen": 90}
	eventually(t, "the central has all", func() bool { return assert.ObjectsAreEqual(all, counted(p.head)) })

	// change asks for it on a disk that fails, kills the service, and asks again until it is done.
	change := func(before, after map[string]float64, what ...string) {
		fail(t, p.gatewayRuns, filepath.Join(p.dir, "data"), inject)
		told, err := newPerson(t, p.gateway.Base()).run("", what...)
		p.killGateway()
		if err == nil {
			assert.Equal(t, after, counted(p.gateway), "it was said to be done: %s", told)
			return
		}
		assert.Contains(t, told, "nexocumula: ", "it says why it is not done")
		by, recorded := newPerson(t, p.gateway.Base()), strings.Contains(told, "need not be asked for again")
		eventually(t, "it is done", func() bool {
			held := counted(p.gateway)
			if what[0] == "series" {
				require.True(t, assert.ObjectsAreEqual(before, held) || assert.ObjectsAreEqual(after, held), "all of it, or nothing: %v", held)
			}
			if assert.ObjectsAreEqual(after, held) {
				return true
			}
			if !recorded {
				_, _ = by.run("", what...)
			}
			return false
		})
	}
	change(all, less, "remove", "stony-beck/raceway-1/oxygen", "--from", at(30).Format(time.RFC3339), "--to", at(60).Format(time.RFC3339),
		"--reason", "probe in the bucket")
	change(less, renamed, "series", "rename", "stony-beck/raceway-1", "stony-beck/raceway-9")
	for _, c := range []*client.Client{p.gateway, p.head} {
		eventually(t, "both ends have the same", func() bool { return assert.ObjectsAreEqual(renamed, counted(c)) })
		found, err := c.Gaps(t.Context(), client.GapsQuery{Last: "1d", Cause: "removed"})
		require.NoError(t, err)
		assert.Len(t, found.Gaps, 1)
		health, err := c.Health(t.Context())
		require.NoError(t, err)
		assert.Zero(t, health.Damaged)
	}
}

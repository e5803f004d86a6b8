package e2e

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

const copied = `data: %[1]s/%[2]s
listen: 127.0.0.1:0
gateway:
  site: stony-beck
  sources:
    - name: scripts
      http_push: { senders: [{ name: lake, secret_file: %[1]s/secret }] }
  uplinks: [{ name: head-office, address: "http://127.0.0.1:%[3]s", secret_file: %[1]s/link }]
`

const copiedCentral = `data: %[1]s/%[2]s
listen: 127.0.0.1:%[3]s
central: { accept: [{ gateway: stony-beck, secret_file: %[1]s/link }] }
`

// pushing sends readings one after the other, each ten seconds after the one before, and counts those that are acknowledged.
type pushing struct {
	t     *testing.T
	begin time.Time

	mu   sync.Mutex
	sent int
}

func (p *pushing) push(base string) {
	p.t.Helper()
	p.mu.Lock()
	defer p.mu.Unlock()
	at := p.begin.Add(time.Duration(p.sent) * 10 * time.Second).Unix()
	request, err := http.NewRequestWithContext(p.t.Context(), http.MethodPost, base+"/api/v1/readings",
		strings.NewReader(fmt.Sprintf(`[{"n":"raceway-1/oxygen","u":"mg/l","t":%d,"v":%d}]`, at, p.sent)))
	require.NoError(p.t, err)
	request.Header.Set("Authorization", "Bearer salmon run at dawn")
	request.Header.Set("Content-Type", "application/senml+json")
	answer, err := http.DefaultClient.Do(request)
	require.NoError(p.t, err)
	answer.Body.Close()
	require.Equal(p.t, http.StatusOK, answer.StatusCode)
	p.sent++
}

func (p *pushing) acknowledged() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.sent
}

// has counts the readings of a gateway or, of a central, those that its summaries are of.
func (p *pushing) has(c *client.Client) (count int) {
	windows, err := c.Windows(p.t.Context(), client.WindowsQuery{
		Select: []string{"stony-beck/raceway-1/oxygen"}, From: p.begin, To: p.begin.Add(24 * time.Hour), Width: "whole", Stats: []string{"count"},
	})
	if err != nil || len(windows.Series) == 0 {
		return 0
	}
	return int(windows.Series[0].Values["count"][0])
}

// A gateway and its central are copied while readings come, and each is lost and put back: in the end both have all
// that is left somewhere.
func TestWhatWasCopiedComesBackAndCatchesUp(t *testing.T) {
	t.Parallel()
	dir, port := t.TempDir(), freePort(t)
	for name, text := range map[string]string{"secret": "salmon run at dawn", "link": "a stone in the river 77"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	central, head := service(t, dir, "central", fmt.Sprintf(copiedCentral, dir, "head-office", port))
	p, gateway := service(t, dir, "gateway", fmt.Sprintf(copied, dir, "data", port))
	person := newPerson(t, gateway.Base())
	readings := &pushing{t: t, begin: time.Now().UTC().Add(-23 * time.Hour).Truncate(time.Hour)}
	for range 300 {
		readings.push(gateway.Base())
	}
	backups := filepath.Join(dir, "backups")
	gatewayFile, centralFile := filepath.Join(dir, "gateway.yaml"), filepath.Join(dir, "central.yaml")
	assert.Regexp(t, `^Copied stony-beck as of \S+Z, \d+\.\d MB; \d+\.\d MB are new\.\n$`, person.does("", "backup", "--config", gatewayFile, backups))

	// While readings come: all that was acknowledged before the copy began is in it.
	stop, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for {
			select {
			case <-stop:
				return
			default:
				readings.push(gateway.Base())
				time.Sleep(5 * time.Millisecond) // the day has room for 8,000
			}
		}
	}()
	eventually(t, "some come", func() bool { return readings.acknowledged() > 320 })
	before := readings.acknowledged()
	time.Sleep(1100 * time.Millisecond) // copies are called by their seconds
	person.does("", "backup", "--config", gatewayFile, backups)
	person.does("", "backup", "--config", centralFile, filepath.Join(dir, "central.tar"))
	close(stop)
	<-ended
	after := readings.acknowledged()
	eventually(t, "the central has all", func() bool { return readings.has(head) == after })

	// The gateway is lost: what the copy has not is at the central only, as summaries.
	p.kill()
	require.NoError(t, os.Rename(filepath.Join(dir, "data"), filepath.Join(dir, "lost")))
	list := person.does("", "restore", backups)
	assert.Equal(t, 2, strings.Count(list, " whole "), list)
	assert.Contains(t, person.does("", "restore", backups, filepath.Join(dir, "data")), "Restored stony-beck as of ")
	assert.FileExists(t, filepath.Join(dir, "data", "configuration.yaml"))
	assert.Contains(t, person.does("", "verify", "--config", gatewayFile), "All is whole: 1 series, ")
	p, gateway = service(t, dir, "gateway", fmt.Sprintf(copied, dir, "data", port))
	restored := readings.has(gateway)
	assert.GreaterOrEqual(t, restored, before)
	assert.LessOrEqual(t, restored, after)
	readings.mu.Lock()
	readings.sent = after
	readings.mu.Unlock()
	for range 70 { // so that windows close
		readings.push(gateway.Base())
	}
	eventually(t, "the central gets what comes after", func() bool { return readings.has(head) == after+70 })

	// The central is lost, and put back as it was: the gateway sends again what it has.
	central.kill()
	require.NoError(t, os.Rename(filepath.Join(dir, "head-office"), filepath.Join(dir, "lost-too")))
	person.does("", "restore", filepath.Join(dir, "central.tar"), filepath.Join(dir, "head-office"))
	_, head = service(t, dir, "central", fmt.Sprintf(copiedCentral, dir, "head-office", port))
	eventually(t, "the central has what the gateway has", func() bool { return readings.has(head) >= restored+70 })
	assert.NotContains(t, p.output.String(), "panic")
}

func TestSecretsAreCopiedOnlyForThoseWhoMayHaveThem(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	_, _, warden := guarded(t, dir)
	file := filepath.Join(dir, "central.yaml")
	key, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "key.txt"), []byte(key.String()+"\n"), 0o600))
	warden.does("", "backup", "--config", file, filepath.Join(dir, "without.tar"))
	warden.does("", "backup", "--config", file, "--recipient", key.Recipient().String(), filepath.Join(dir, "with.tar"))
	own, err := os.ReadFile(filepath.Join(dir, "central", "own-key.pem"))
	require.NoError(t, err)
	for _, name := range []string{"without.tar", "with.tar"} {
		text, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.False(t, bytes.Contains(text, own[40:120]), "%s has the key in plain", name)
	}
	assert.NotContains(t, warden.does("", "restore", filepath.Join(dir, "without.tar"), filepath.Join(dir, "a")), "secrets")
	assert.Contains(t, warden.does("", "restore", filepath.Join(dir, "with.tar"), filepath.Join(dir, "b")), "give --identity for them")
	warden.does("", "restore", "--identity", filepath.Join(dir, "key.txt"), filepath.Join(dir, "with.tar"), filepath.Join(dir, "c"))
	for place, there := range map[string]bool{"a": false, "b": false, "c": true} {
		text, err := os.ReadFile(filepath.Join(dir, place, "own-key.pem"))
		if assert.Equal(t, there, err == nil, place) && there {
			assert.Equal(t, own, text)
			info, err := os.Stat(filepath.Join(dir, place, "own-key.pem"))
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
		}
	}
}

// Whatever happens to a backup is noticed before anything of it is used.
func TestADamagedBackupIsNoticed(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	_, gateway := service(t, dir, "gateway", strings.ReplaceAll(supervised, "%", dir))
	person, file, backups := newPerson(t, gateway.Base()), filepath.Join(dir, "gateway.yaml"), filepath.Join(dir, "backups")
	person.does("", "backup", "--config", file, backups)
	blocks, err := filepath.Glob(filepath.Join(backups, "blocks", "*", "*"))
	require.NoError(t, err)
	require.NotEmpty(t, blocks)
	manifests, err := filepath.Glob(filepath.Join(backups, "taken", "*"))
	require.NoError(t, err)
	for i, path := range append(blocks[:1], manifests...) {
		good, err := os.ReadFile(path)
		require.NoError(t, err)
		for _, bad := range [][]byte{good[:len(good)-1], bytes.Replace(good, good[20:24], []byte("none"), 1), {}} {
			require.NoError(t, os.WriteFile(path, bad, 0o600))
			into := filepath.Join(dir, "restored")
			out := person.refused("", "restore", backups, into)
			assert.Regexp(t, "is damaged|is missing|cannot be read|does not match its sum|has no backup of that time", out, i)
			left, err := os.ReadDir(into)
			require.NoError(t, err)
			for _, e := range left {
				assert.Equal(t, "nexocumula.lock", e.Name(), "nothing is put there")
			}
			person.refused("", "restore", backups)
		}
		require.NoError(t, os.WriteFile(path, good, 0o600))
	}
	person.does("", "restore", backups)
	assert.Contains(t, person.refused("", "backup", "--config", file, filepath.Join(dir, "data", "copies")), "is inside of the service's own folder")
	assert.Contains(t, person.refused("", "restore", "-"), "name the FOLDER that it is put into")
	assert.Contains(t, person.refused("", "restore", backups, dir), "is not empty")
	assert.Contains(t, person.refused("", "restore", "--as-of", "2020-01-01", backups, filepath.Join(dir, "restored")), "no backup of that time")
}

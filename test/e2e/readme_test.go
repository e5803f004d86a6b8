package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

// yamlOf returns the YAML blocks of the README, in order: the gateway, a listener to add to
// its sources, an uplink to add to it, and the central.
func yamlOf(t *testing.T) []string {
	text, err := os.ReadFile(filepath.Join(sourceDir(), "..", "..", "README.md"))
	require.NoError(t, err)
	var out []string
	for _, m := range regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		out = append(out, m[1])
	}
	require.Len(t, out, 4)
	return out
}

// secretLine returns the line of the README that makes a secret.
func secretLine(t *testing.T) string {
	text, err := os.ReadFile(filepath.Join(sourceDir(), "..", "..", "README.md"))
	require.NoError(t, err)
	line := regexp.MustCompile("(?m)^.*openssl rand.*$").FindString(string(text))
	require.NotEmpty(t, line)
	return line
}

// TestTheReadmeWorksAsItIsWritten follows its ten minutes, with the ports changed to
// free ones.
func TestTheReadmeWorksAsItIsWritten(t *testing.T) {
	t.Parallel()
	program, err := binary()
	require.NoError(t, err)
	dir, yaml := t.TempDir(), yamlOf(t)
	ports := strings.NewReplacer(
		"127.0.0.1:5021", "127.0.0.1:"+freePort(t), "127.0.0.1:1884", "127.0.0.1:"+freePort(t), "127.0.0.1:1883", "127.0.0.1:"+freePort(t),
		"127.0.0.1:8470", "127.0.0.1:"+freePort(t), "./", dir+"/",
	)
	makeSecret := exec.Command("sh", "-c", secretLine(t))
	makeSecret.Dir = dir
	out, err := makeSecret.CombinedOutput()
	require.NoError(t, err, string(out))
	start(t, program, "simulate", "probes", "--listen", ports.Replace("127.0.0.1:5021"))
	start(t, program, "simulate", "broker", "--listen", ports.Replace("127.0.0.1:1884"))
	start(t, program, "simulate", "silo-scale", "--broker", ports.Replace("tcp://127.0.0.1:1884"), "--every", "1s")
	start(t, program, "simulate", "lake", "--broker", ports.Replace("tcp://127.0.0.1:1883"), "--every", "1s")

	gatewayText := ports.Replace(yaml[0]) + ports.Replace(yaml[1]) + ports.Replace(yaml[2]) + "listen: 127.0.0.1:0\n"
	path := filepath.Join(dir, "both.yaml")
	require.NoError(t, os.WriteFile(path, []byte(gatewayText), 0o600))
	checked, err := exec.Command(program, "check", path).CombinedOutput()
	require.NoError(t, err, string(checked))
	assert.Contains(t, string(checked), "good: gateway of stony-beck with 3 source(s) and 1 uplink(s)")

	_, central := service(t, dir, "central", ports.Replace(yaml[3]))
	_, gateway := service(t, dir, "gateway", gatewayText)
	for _, path := range []string{
		"stony-beck/raceway-1/oxygen", "stony-beck/raceway-2/oxygen", "stony-beck/silo-1/feed",
		"stony-beck/buoy-1/water_temp_1m",
	} {
		eventually(t, path+" has a value", func() bool {
			now, err := gateway.Now(t.Context(), path)
			return err == nil && len(now.Values) == 1 && now.Values[0].Fresh
		})
		windows, err := gateway.Windows(t.Context(),
			client.WindowsQuery{Select: []string{path}, Last: "1h", Width: "5m"})
		require.NoError(t, err)
		assert.NotNil(t, windows.Series[0].Whole, "readings of seconds ago are in the answer")
	}
	eventually(t, "the central has it too", func() bool {
		now, err := central.Now(t.Context(), "stony-beck/silo-1/feed")
		return err == nil && len(now.Values) == 1
	})
	eventually(t, "what the mast says, which no messages: entry names, is listed", func() bool {
		rejects, err := gateway.Rejects(t.Context(), client.RejectFilter{Source: "own", Limit: 1})
		return err == nil && len(rejects.Rejects) == 1 &&
			strings.Contains(rejects.Rejects[0].Reason, "topic matches no messages: entry")
	})
}

func TestASecondServiceOnTheSamePortSaysSo(t *testing.T) {
	program, err := binary()
	require.NoError(t, err)
	dir, port := t.TempDir(), freePort(t)
	config := "data: " + dir + "/a\nlisten: 127.0.0.1:" + port + "\ncentral: {}\n"
	service(t, dir, "first", config)
	path := filepath.Join(dir, "second.yaml")
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(config, "/a", "/b", 1)), 0o600))
	out, err := exec.Command(program, "run", "--config", path).CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(out),
		"another program listens at that address already; or set another listen: in the configuration")

	gateway := "data: " + dir + "/b\nlisten: 127.0.0.1:0\ngateway:\n  site: far-moor\n  sources: [{ name: own, mqtt_listener: { address: 127.0.0.1:" + port + ", messages: [{ topic: \"#\", series: a/b }] } }]\n"
	require.NoError(t, os.WriteFile(path, []byte(gateway), 0o600))
	out, err = exec.Command(program, "run", "--config", path).CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(out),
		"source own: listening for MQTT at 127.0.0.1:"+port+": another program listens at that address already")
	assert.NotContains(t, string(out), "is running", "it says so once devices are let in")
}

// The tests that docs/durability.md names are there.
func TestWhatIsPromisedIsProved(t *testing.T) {
	root := filepath.Join(sourceDir(), "..", "..")
	text, err := os.ReadFile(filepath.Join(root, "docs", "durability.md"))
	require.NoError(t, err)
	there := map[string]bool{}
	for _, room := range []string{"internal", "test"} {
		require.NoError(t, filepath.WalkDir(filepath.Join(root, room), func(path string, entry os.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, "_test.go") {
				return err
			}
			code, err := os.ReadFile(path)
			for _, m := range regexp.MustCompile(`(?m)^func (Test\w+)\(`).FindAllStringSubmatch(string(code), -1) {
				there[m[1]] = true
			}
			return err
		}))
	}
	named := regexp.MustCompile("`(Test[A-Za-z]+)`").FindAllStringSubmatch(string(text), -1)
	require.Greater(t, len(named), 25)
	for _, m := range named {
		assert.True(t, there[m[1]], "there is no %s", m[1])
	}
	for _, line := range regexp.MustCompile(`(?m)^\| [A-Z].*$`).FindAllString(string(text), -1) {
		assert.Contains(t, line, "`Test", "each sentence names its test")
	}
}

// TestTheFilesThatAreToBeChangedExist keeps the lists of docs/changing.md true.
func TestTheFilesThatAreToBeChangedExist(t *testing.T) {
	root := filepath.Join(sourceDir(), "..", "..")
	text, err := os.ReadFile(filepath.Join(root, "docs", "changing.md"))
	require.NoError(t, err)
	named := regexp.MustCompile("`((?:internal|web|docs|api)/[^` ]+)`").FindAllStringSubmatch(string(text), -1)
	require.Greater(t, len(named), 15)
	for _, m := range named {
		_, err := os.Stat(filepath.Join(root, m[1]))
		assert.NoError(t, err, "docs/changing.md names it")
	}
}

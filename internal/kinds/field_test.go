package kinds

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/certs/certstest"
	"nexocumula/internal/config"
	"nexocumula/internal/secret"
)

var yamlBlock = regexp.MustCompile("(?s)```yaml\n(.*?)```")

func TestTheSnippetsOfTheFieldGuideAreGood(t *testing.T) {
	dir := t.TempDir()
	ca := certstest.New(t, dir)
	ca.Make(t, "listener")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("salmon run at dawn"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "mast-secret"), []byte("a feather on the water"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "archive-secret"), []byte("a stone in the river"), 0o600))
	require.NoError(t,
		os.WriteFile(filepath.Join(dir, "accounts"),
			[]byte("mast:"+secret.HashPassword([]byte("salmon run"), secret.OfDevices)+"\n"), 0o600))
	require.NoError(t, os.CopyFS(dir, os.DirFS("../demo/configs/devices")))
	text, err := os.ReadFile("../../docs/field.md")
	require.NoError(t, err)
	used := map[string]bool{}
	for _, block := range yamlBlock.FindAllStringSubmatch(string(text), -1) {
		sources := strings.ReplaceAll(block[1], "/etc/nexocumula", dir)
		s, err := config.Parse("field.yaml",
			[]byte("data: d\ngateway:\n  site: alder-weir\n  series: [{ select: +/pump-1/valve, kind: state, states: { open: 1 } }, { select: +/inlet/direction, kind: state, states: { in: 1 } }]\n  sources:\n"+regexp.MustCompile(`(?m)^`).ReplaceAllString(sources,
				"    ")),
			All)
		require.NoError(t, err, block[1])
		for _, one := range s.Gateway.Sources {
			used[one.Kind] = true
		}
	}
	for _, kind := range All.Sources {
		assert.True(t, used[kind.Key], "the guide shows no %s", kind.Key)
	}
	for _, list := range KeyLists() {
		if form, ok := strings.CutPrefix(list.Name, "payload: "); ok && form != "number" && form != "senml_cbor" {
			assert.True(t, strings.Contains(string(text), "payload: "+form), "the guide shows no payload: %s", form)
		}
	}
}

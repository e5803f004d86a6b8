package edit

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const written = `# the raceways
data: ./data

gateway:
  site: stony-beck # ours
  series:
    - { select: "+/+/oxygen",
        unit: mg/l }   # two lines
    # none of the others yet

  sources:
    - name: probes
      modbus:
        address: tcp://127.0.0.1:502
        registers: [
          { table: input, address: 0, series: a/b },
        ]
# the end
`

func TestLinesAreAppendedAndAllOthersStay(t *testing.T) {
	after, err := Append(written, Lists{
		"gateway.series":  "- { select: +/+/feed }\n",
		"gateway.sources": "- name: x\n  http_push:\n    senders: []\n",
		"gateway.uplinks": "- { name: up }",
	}, "gateway.series", "gateway.sources", "gateway.uplinks")
	require.NoError(t, err)
	difference, err := Difference("f.yaml", written, after)
	require.NoError(t, err)
	assert.Equal(t, `--- f.yaml
+++ f.yaml (new)
@@ -7,4 +7,5 @@
     - { select: "+/+/oxygen",
         unit: mg/l }   # two lines
+    - { select: +/+/feed }
     # none of the others yet
 
@@ -16,3 +17,8 @@
           { table: input, address: 0, series: a/b },
         ]
+    - name: x
+      http_push:
+        senders: []
+  uplinks:
+    - { name: up }
 # the end
`, difference)
}

func TestWhatCannotBeAppendedToIsSaid(t *testing.T) {
	for text, wrong := range map[string]string{
		"gateway:\n  sources: [{ name: a }]\n": "gateway.sources: is not written as lines",
		"gateway: { site: a }\n":               "gateway: is not written as lines",
		"central:\n  accept: []\n":             "there is no gateway",
		"gateway:\n  sources: 7\n":             "is not written as lines",
		"gateway: [":                           "",
	} {
		_, err := Append(text, Lists{"gateway.sources": "- name: b"}, "gateway.sources")
		assert.ErrorContains(t, err, wrong, text)
	}
	after, err := Append("gateway:\n  sources:\n  site: x", Lists{"gateway.sources": "- name: b"}, "gateway.sources")
	require.NoError(t, err)
	assert.Equal(t, "gateway:\n  sources:\n    - name: b\n  site: x\n", after)
}

// YAML breaks lines at more than line feeds, and what a line is indented by says what it belongs to.
func TestOnlyTheListsGrow(t *testing.T) {
	flat := "gateway:\n  site: x\n  sources:\n  - name: a\n  pace: { messages: 1s }\n"
	for _, lines := range []string{
		"# x\raccess: {provider: {}}\r", "- name: b # x\u0085access: {}", "- name: b\u2028pace: {}", "- name: b\u2029pace: {}", "- name: \x1b[2J", "- name: b\x00", "\ufeff- name: b",
		"- name: b\nuplinks: []", "- name: b\n\n...\n---\naccess: {}", "uplinks: []", "name: b", "- name: b\n---\n- name: c", "\"- name: b\"", "- *a", "- name: [", "-",
		"- name: b\n- |\n x\naccess: {}",
	} {
		for _, text := range []string{flat, written} {
			after, err := Append(text, Lists{"gateway.sources": lines}, "gateway.sources")
			if lines == "-" && err == nil {
				continue // an empty item changes nothing else
			}
			assert.Error(t, err, "%q: %s", lines, after)
		}
	}
	after, err := Append(flat,
		Lists{"gateway.sources": "- name: b\n  modbus:\n    registers:\n    - { address: 0 }\n"}, "gateway.sources")
	require.NoError(t, err)
	assert.Contains(t, after,
		"  - name: a\n  - name: b\n    modbus:\n      registers:\n      - { address: 0 }\n  pace:")
}

func TestAFileIsWrittenInOneStepWithItsRights(t *testing.T) {
	file := filepath.Join(t.TempDir(), "f.yaml")
	require.NoError(t, os.WriteFile(file, []byte("old"), 0o600))
	require.NoError(t, os.Chmod(file, 0o640))
	require.NoError(t, Write(file, "new"))
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "new", string(text))
	about, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), about.Mode().Perm())
	assert.Error(t, Write(filepath.Join(t.TempDir(), "none"), ""))
}

// Whatever stands in a file: either nothing is appended, with a reason, or all its lines are
// still there in their order, and it says what it said before.
func FuzzAppend(f *testing.F) {
	for _, text := range []string{
		written, "gateway:\n  sources:\n", "gateway:\n  sources:\n  - a: |\n      text\n      more\n",
		"gateway:\n  series: &s\n    - a\n  other: *s\n", "a: 1\n---\ngateway:\n  site: x\n",
		"gateway:\r\n  site: x\r\n", "gateway:\n  sources:\n    - 'a\n      b'\n",
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		after, err := Append(text, Lists{"gateway.sources": "- name: new\n"}, "gateway.sources")
		if err != nil {
			return
		}
		kept := slices.Collect(strings.Lines(text))
		for line := range strings.Lines(after) {
			if len(kept) > 0 && strings.TrimRight(line, "\n") == strings.TrimRight(kept[0], "\n") {
				kept = kept[1:]
			}
		}
		require.Empty(t, kept, "%q", after)
	})
}

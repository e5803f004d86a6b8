package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

// boards are listed, exported and imported.
func boards(t *testing.T, at string) {
	out, _, code := typed(t, "board", "list", "raceway", at)
	assert.Zero(t, code)
	assert.Contains(t, out, "stony-beck, raceway-4")
	assert.NotContains(t, out, "long-mere")
	text, _, code := typed(t, "board", "export", "stony-beck/raceway-4", at)
	require.Zero(t, code)
	var b client.Board
	require.NoError(t, json.Unmarshal([]byte(text), &b))
	b.Title = "Raceway 4 at night"
	file := filepath.Join(t.TempDir(), "night.json")
	changed, err := json.Marshal(b)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, changed, 0o600))
	out, errOut, code := typed(t, "board", "import", file, at)
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "version 1: Raceway 4 at night")
	assert.Regexp(t, `^At http://127\.0\.0\.1:[0-9]+ \(central\):\n$`, errOut, "it says which service was changed")
	out, _, _ = typed(t, "board", "import", file, "--over=1", at)
	assert.Contains(t, out, "Board 1, version 2")
	out, errOut, _ = typed(t, "board", "history", "1", at)
	assert.Empty(t, errOut, "this changes nothing")
	assert.Regexp(t, `1 +Raceway 4 at night +stony-beck/raceway-4 +2 `, out)
	again, _, code := typed(t, "board", "export", "1", "--of-version=1", at)
	assert.Zero(t, code)
	assert.JSONEq(t, string(changed), again)
	_, _, code = typed(t, "board", "remove", "1", at)
	assert.Zero(t, code)

	for want, args := range map[string][]string{
		"is no number of a board":     {"board", "remove", "night", at},
		"there is no site or station": {"board", "export", "nowhere", at},
		"board import needs FILE":     {"board", "import", at},
		"no such file":                {"board", "import", file + "x", at},
		"there is no board 99":        {"board", "history", "99", at},
		"unknown field":               {"board", "import", written(t, `{"wings":2}`), at},
		"lanes[0].series: it is empty": {
			"board", "import", written(t, `{"form":"nexocumula-board-1","title":"x","lanes":[{"kind":"states"}]}`),
			at,
		},
		"there is no version 7 of board": {"board", "export", "1", "--of-version=7", at},
	} {
		_, errOut, code := typed(t, args...)
		assert.NotZero(t, code, want)
		assert.Contains(t, errOut, want)
	}
}

func written(t *testing.T, text string) string {
	file := filepath.Join(t.TempDir(), "board.json")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	return file
}

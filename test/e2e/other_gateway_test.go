package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

// A gateway in another language, written from docs/replication.md, sends summaries and notes, is asked for readings, and proves that
// both ends are the same.
func TestAGatewayWrittenFromTheManualIsTaken(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "link"), []byte("a stone in the river 77"), 0o600))
	_, head := service(t, dir, "central", fmt.Sprintf("data: %[1]s/central\nlisten: 127.0.0.1:0\ncentral: { accept: [{ gateway: other-beck, secret_file: %[1]s/link }] }\n", dir))
	begin := time.Now().UTC().Add(-26 * time.Hour).Truncate(time.Hour)
	other := start(t, "/usr/bin/python3", filepath.Join(sourceDir(), "peers", "other_gateway.py"), head.Base(), "a stone in the river 77",
		fmt.Sprint(begin.UnixNano()))
	eventually(t, "it has sent", func() bool { return strings.Contains(other.output.String(), "ready") })
	assert.Contains(t, other.output.String(), "equal True")
	assert.NotContains(t, other.output.String(), "refused")
	ask := client.WindowsQuery{Select: []string{"other-beck/#"}, From: begin, To: begin.Add(time.Hour), Width: "whole", Stats: []string{"count", "mean"}}
	got, err := head.Windows(t.Context(), ask)
	require.NoError(t, err)
	sum := 0.0
	for n := range 120 {
		sum += 5 + float64(n*7%11)/4
	}
	assert.EqualValues(t, 120, got.Series[0].Values["count"][0])
	assert.InDelta(t, sum/120, float64(got.Series[0].Values["mean"][0]), 1e-9)
	notes, err := head.Notes(t.Context(), "", "")
	require.NoError(t, err)
	require.Len(t, notes.Notes, 1)

	warden := newPerson(t, head.Base())
	said := warden.does("", "fetch", "other-beck/#", "--from", begin.Format(time.RFC3339), "--to", begin.Add(time.Hour).Format(time.RFC3339))
	assert.Contains(t, said, "120")
	ask.Stats = []string{"p50", "max"}
	got, err = head.Windows(t.Context(), ask)
	require.NoError(t, err)
	assert.InDelta(t, 7.5, float64(got.Series[0].Values["max"][0]), 1e-9)
	assert.Contains(t, warden.refused("", "request", "read", "other-beck", "flume"), "only readings are here")
}

package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

// A note that is pinned at a gateway is seen at the central and at the one above it, and is gone there when it is
// removed at the gateway.
func TestNotesOfAGatewayAreSeenAboveIt(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("otter-and-heron-7\n"), 0o600))
	_, head := service(t, dir, "head", fmt.Sprintf(`
data: %[1]s/head
listen: 127.0.0.1:0
central: { accept: [{ gateway: north, sites: [far-moor], secret_file: %[1]s/secret }] }
`, dir))
	_, central := service(t, dir, "office", fmt.Sprintf(`
data: %[1]s/office
listen: 127.0.0.1:0
central:
  name: north
  accept: [{ gateway: far-moor, secret_file: %[1]s/secret }]
  uplinks: [{ name: head-office, address: "%[2]s", secret_file: %[1]s/secret }]
`, dir, head.Base()))
	_, own := service(t, dir, "site", fmt.Sprintf(`
data: %[1]s/site
listen: 127.0.0.1:0
gateway:
  site: far-moor
  uplinks: [{ name: north, address: "%[2]s", secret_file: %[1]s/secret }]
`, dir, central.Base()))
	at := time.Date(2026, 3, 1, 6, 30, 0, 0, time.UTC)
	pinned, err := own.AddNote(t.Context(), client.NewNote{
		About: "far-moor/weir",
		Text:  "the gate was stuck\nand is free again",
		At:    &at,
	})
	require.NoError(t, err)
	seen := func(c *client.Client) []client.Note {
		found, err := c.Notes(t.Context(), "", "")
		require.NoError(t, err)
		return found.Notes
	}
	for name, c := range map[string]*client.Client{"central": central, "one above": head} {
		eventually(t, "the note is at the "+name, func() bool { return len(seen(c)) == 1 })
		got, want := seen(c)[0], pinned
		want.ID = got.ID
		assert.Equal(t, want, got, name)
	}
	require.NoError(t, own.RemoveNote(t.Context(), pinned.ID))
	for name, c := range map[string]*client.Client{"central": central, "one above": head} {
		eventually(t, "the note is gone at the "+name, func() bool { return len(seen(c)) == 0 })
	}
}

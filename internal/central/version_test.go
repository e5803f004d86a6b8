package central

import (
	"context"
	"path/filepath"
	"testing"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/store/records"
	"nexocumula/internal/wire"
)

// asking asks the same of every gateway.
type asking struct{}

func (asking) Hand(string, string) ([]wire.Request, error) { return []wire.Request{{ID: "a"}}, nil }
func (asking) Waits(context.Context, string) bool          { return true }
func (asking) Answered(records.Request)                    {}

// A sender of the version before is taken, and is asked nothing that it does not know; what needs another version is refused as such.
func TestTheVersionBeforeIsUnderstood(t *testing.T) {
	r, _, _ := receiver(t, filepath.Join(t.TempDir(), "s.db"))
	r.Use(asking{})
	send := func(number uint64, versions map[string]any) (wire.Reply, error) {
		e := map[string]any{
			"gateway": "long-mere", "session": "s", "number": number, "acked": map[string]any{"life": "", "stored": 0}, "status": map[string]any{},
			"a key of later": 7,
		}
		for key, v := range versions {
			e[key] = v
		}
		text, err := cbor.Marshal(e)
		require.NoError(t, err)
		return r.Receive(t.Context(), "trout", "here", text)
	}
	reply, err := send(1, map[string]any{"version": 4})
	require.NoError(t, err)
	assert.Empty(t, reply.Requests)
	assert.Equal(t, wire.Version, reply.Speaks)
	reply, err = send(2, map[string]any{"version": 4, "speaks": 5})
	require.NoError(t, err)
	assert.Len(t, reply.Requests, 1)
	reply, err = send(3, map[string]any{"version": 5, "speaks": 9})
	require.NoError(t, err)
	assert.Len(t, reply.Requests, 1, "what a later one speaks besides does no harm")
	for version, says := range map[int]string{6: "bring the central up to date", 3: "bring the sender up to date"} {
		_, err = send(4, map[string]any{"version": version})
		require.Error(t, err)
		assert.Equal(t, wire.CodeVersion, RefusalOf(err).Code)
		assert.Contains(t, err.Error(), says)
		assert.Contains(t, r.Links()[1].LastError, says)
	}
}

package payload

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCodesAreLookedUp(t *testing.T) {
	file := filepath.Join(t.TempDir(), "stations.csv")
	require.NoError(t, os.WriteFile(file, []byte("# code,station\n17, north/buoy-1\n\"0x2A\",mast\n"), 0o600))
	all, err := read("messages:\n  - { topic: \"lake/{station}\", lookup: { station: " + file + " }, series: \"{station}/level\" }\n" +
		"  - { topic: batch, payload: json, names: { id: /id }, lookup: { id: " + file + " }, values: [{ at: /v, series: \"{id}/level\" }] }\n")
	require.NoError(t, err)
	m := NewMessages("s", all)
	path := func(topic, payload string) string {
		got := m.Decode(Arrived{Topic: topic, Payload: []byte(payload), At: 7})
		if len(got.Readings) == 1 {
			return string(got.Readings[0].Path)
		}
		return got.Rejects[0].Reason
	}
	assert.Equal(t, "site/north/buoy-1/level", path("lake/17", "5"))
	assert.Equal(t, "site/north/buoy-1/level", path("batch", `{"id":17,"v":5}`))
	assert.Equal(t, "site/mast/level", path("batch", `{"id":"0x2A","v":5}`))
	assert.Contains(t, path("lake/18", "5"), `the code "18" for {station} is not in `)
	assert.Contains(t, path("batch", `{"id":18,"v":5}`), `the code "18" for {id} is not in `)
	for text, wrong := range map[string]string{"a,b,c\n": "write a line code,name", "a,b c\n": "entry 1: the name", "a,b\na,c\n": "there twice"} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := read("messages: [{ topic: \"{station}\", lookup: { station: " + file + " }, series: \"{station}/level\" }]\n")
		assert.ErrorContains(t, err, wrong)
	}
	_, err = read("messages: [{ topic: \"{station}\", lookup: { buoy: nowhere.csv }, series: \"{station}/level\" }]\n")
	assert.ErrorContains(t, err, "neither topic nor payload binds {buoy} (there is {station})")
	assert.ErrorContains(t, err, "no such file")
}

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
	for text, wrong := range map[string]string{
		"a\n": "write a line code,name", "a,b c\n": "entry 1: the name", "a,b\na,c\n": "there twice", "a,b\nc,d,e\n": "wrong number of fields",
		"code,station,sea region\na,b,c\n": "the first line names them", "code,name,station\na,b,c\n": `the column "station" of `,
	} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := read("messages: [{ topic: \"{station}\", lookup: { station: " + file + " }, series: \"{station}/level\" }]\n")
		assert.ErrorContains(t, err, wrong)
	}
	_, err = read("messages: [{ topic: \"{station}\", lookup: { buoy: nowhere.csv }, series: \"{station}/level\" }]\n")
	assert.ErrorContains(t, err, "neither topic nor payload binds {buoy} (there is {station})")
	assert.ErrorContains(t, err, "no such file")
}

func TestLabelsComeFromTopicPayloadLookUpsAndConstants(t *testing.T) {
	file := filepath.Join(t.TempDir(), "stations.csv")
	require.NoError(t,
		os.WriteFile(file, []byte("code,station,region\n17,north/buoy-1,north\n18,mast,the south\n"), 0o600))
	all, err := read("messages:\n" +
		"  - { topic: \"{make}/{station}\", lookup: { station: " + file + " }, labels: { maker: \"{make}\", region: \"{region}\", owner: us }, series: \"{station}/level\" }\n" +
		"  - { topic: batch, payload: json, records: /, names: { id: /id, fw: /fw }, lookup: { id: " + file + " }, labels: { fw: \"v{fw}\", region: \"{region}\" }, values: [{ at: /v, series: lake/level }] }\n")
	require.NoError(t, err)
	m := NewMessages("s", all)
	said := func(topic, payload string) (out []string) {
		got := m.Decode(Arrived{Topic: topic, Payload: []byte(payload), At: 7})
		require.Empty(t, got.Rejects)
		for _, r := range got.Readings {
			out = append(out, string(r.Path)+" "+string(r.Labels))
		}
		return out
	}
	assert.Equal(t, []string{"site/north/buoy-1/level maker=vega,owner=us,region=north"}, said("vega/17", "5"))
	assert.Equal(t, []string{"site/mast/level maker=ueber_co,owner=us,region=the_south"}, said("über co/18", "5"),
		"letters that a label cannot have lose no value")
	assert.Equal(t, []string{"site/lake/level fw=v1.2,region=north", "site/lake/level fw=v2,region=the_south"},
		said("batch", `[{"id":17,"fw":"1.2","v":5},{"id":18,"fw":2,"v":5}]`), "labels of the payload are those of its record")
	for labels, wrong := range map[string]string{
		`{ region: "{region}" }`: `"{region}" must be made of the letters of a path and of {name}s that are bound for site/well/level (there is {station})`,
		`{ "a b": c }`:           `"a b" holds ' '`,
		`{ a: "b c" }`:           "must be made of the letters",
	} {
		_, err = read("messages: [{ topic: \"{station}\", labels: " + labels + ", series: well/level }]\n")
		assert.ErrorContains(t, err, wrong)
	}
}

func TestACorrectedTimeIsKeptAsItWasSaid(t *testing.T) {
	all, err := read(`messages: [{ topic: t, payload: json, records: /r, time: /t, time_form: unix_s, clock: /now, correct_clock: true, clock_offset: "{id}/clock", names: { id: /id }, values: [{ at: /v, series: "{id}/level" }] }]`)
	require.NoError(t, err)
	m := NewMessages("s", all)
	const hour = int64(3600e9)
	a := Arrived{
		Topic:   "t",
		Payload: []byte(`{"now":10800,"id":"a","r":[{"t":7200,"v":1},{"t":9000,"v":2}]}`),
		At:      2 * hour,
	}
	got := m.Decode(a)
	require.Len(t, got.Readings, 3)
	assert.Equal(t, "site/a/clock", string(got.Readings[0].Path), "once, not for each record")
	assert.Equal(t, [3]any{3600.0, 2 * hour, "s"},
		[3]any{got.Readings[0].Value, got.Readings[0].Time, got.Readings[0].Unit})
	assert.Equal(t, hour, got.Readings[1].Time)
	assert.Equal(t, 2*hour, got.Readings[1].From.Said)
	assert.Equal(t, 9000*int64(1e9), got.Readings[2].From.Said)
	assert.Contains(t, got.Readings[2].From.Reject(0, "too high").Reason,
		"too high; its sender said the time 1970-01-01T02:30:00Z")

	a.Retained = true
	got = m.Decode(a)
	assert.Empty(t, got.Readings, "when it was sent is not known, so its clock cannot be measured")
	assert.Equal(t, 2, got.Ignored)
}

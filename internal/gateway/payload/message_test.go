package payload

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/series"
)

func lake(t *testing.T) *Messages {
	t.Helper()
	all, err := read(`messages:
  - { topic: "buoy/{buoy}/state", payload: json, time: /at, values: [{ at: /t, series: "{buoy}/temp" }, { at: /u, series: "{buoy}/volt" }] }
  - { topic: "{station}/{quantity}", series: "{station}/{quantity}", offset: 10 }
`)
	require.NoError(t, err)
	return NewMessages("lake", all)
}

func TestTheFirstPatternThatMatchesCounts(t *testing.T) {
	m := lake(t)
	assert.Same(t, &m.forms[0], m.route("buoy/b/state").message)
	assert.Same(t, &m.forms[1], m.route("mast/wind").message)
	assert.Same(t, m.route("mast/wind"), m.route("mast/wind"), "resolved once")
	assert.Nil(t, m.route("a/b/c/d").message)
	assert.Contains(t, m.route("mast/??").reason, `is "??" here, of which no level of a path can be made`)
	got := m.Decode(Arrived{Topic: "mast/wind", Payload: []byte("5.5"), At: 7})
	require.Len(t, got.Readings, 1)
	assert.Equal(t, [3]any{series.Path("site/mast/wind"), int64(7), 15.5},
		[3]any{got.Readings[0].Path, got.Readings[0].Time, got.Readings[0].Value})
	assert.Equal(t, "topic matches no messages: entry; those are buoy/{buoy}/state, {station}/{quantity}",
		m.Decode(Arrived{Topic: "a/b/c/d"}).Rejects[0].Reason)
}

func TestARetainedMessageCountsOnlyWithItsOwnTime(t *testing.T) {
	m := lake(t)
	how := func(retained string) Decoded {
		all, err := read("messages: [{ topic: mast/wind, series: mast/wind" + retained + " }]")
		require.NoError(t, err)
		return NewMessages("s", all).Decode(Arrived{Topic: "mast/wind", Payload: []byte("5"), At: 7, Retained: true})
	}
	for _, said := range []string{"", ", retained: ignore"} {
		old := how(said)
		assert.Empty(t, old.Readings)
		assert.Empty(t, old.Rejects)
		assert.Equal(t, 1, old.Ignored)
	}
	assert.Contains(t, how(", retained: reject").Rejects[0].Reason, "retained by the broker and has no time of its own")
	assert.EqualValues(t, 7, how(", retained: arrival").Readings[0].Time)
	_, err := read("messages: [{ topic: mast/wind, series: mast/wind, retained: keep }]")
	assert.ErrorContains(t, err, `"keep" is not known; use ignore, arrival or reject`)
	own := m.Decode(Arrived{
		Topic:    "buoy/b/state",
		Payload:  []byte(`{"at":"2026-03-01T08:00:00Z","t":1,"u":2}`),
		At:       7,
		Retained: true,
	})
	assert.Len(t, own.Readings, 2)
}

func TestEverNewTopicsAndNamesAreNotAllRemembered(t *testing.T) {
	m := lake(t)
	m.known.Store(maxRoutes)
	m.route("mast/new")
	_, remembered := m.routes.Load("mast/new")
	assert.False(t, remembered)
	assert.Len(t, m.Decode(Arrived{Topic: "mast/new", Payload: []byte("1"), At: 7}).Readings, 1,
		"they work all the same")

	all, err := read(`messages: [{ topic: t, payload: json, values: [{ members_of: /, series: "a/{key}" }] }]`)
	require.NoError(t, err)
	m = NewMessages("s", all)
	r := m.route("t")
	for i := range maxCalled + 10 {
		_, err := m.name(r,
			value{names: []string{strings.Repeat("x", i%50) + string(rune('a'+i%26)) + strings.Repeat("y", i/1300)}})
		require.NoError(t, err)
	}
	assert.LessOrEqual(t, len(r.called), maxCalled)
	assert.LessOrEqual(t, int(m.known.Load()), maxCalled+1)
}

func TestAMessageOfManyMistakesIsNotManyRejects(t *testing.T) {
	all, err := read(`messages: [{ topic: t, payload: json, records: /, values: [{ at: /v, series: a/b }] }]`)
	require.NoError(t, err)
	m := NewMessages("s", all)
	got := m.Decode(Arrived{Topic: "t", Payload: []byte("[" + strings.Repeat("1,", 999) + `{"v":5}]`)})
	assert.Len(t, got.Readings, 1)
	require.Len(t, got.Rejects, mostRejects)
	assert.Contains(t, got.Rejects[mostRejects-1].Reason, "979 more values of this message are wrong too")
	got = m.Decode(Arrived{Topic: "t", Payload: []byte("[" + strings.Repeat("1,", mostValues) + "1]")})
	assert.Contains(t, got.Rejects[0].Reason, "at most 100000 values are taken from one message")
}

func TestTopicsBindTheirNames(t *testing.T) {
	topic, err := ParseTopic("cage/+/{cage}/{quantity}/#")
	require.NoError(t, err)
	assert.Equal(t, "cage/+/+/+/#", topic.Filter())
	assert.Equal(t, []string{"cage", "quantity"}, topic.Names())
	bound, ok := topic.Match("cage/north/c7/oxygen/raw")
	assert.True(t, ok)
	assert.Equal(t, map[string]string{"cage": "c7", "quantity": "oxygen"}, bound)
	for _, other := range []string{"cage/north/c7", "barge/north/c7/oxygen/raw", ""} {
		_, ok := topic.Match(other)
		assert.False(t, ok, other)
	}
	exact, err := ParseTopic("mast/{quantity}")
	require.NoError(t, err)
	_, ok = exact.Match("mast/wind/speed")
	assert.False(t, ok)
	for text, wrong := range map[string]string{
		"": "is empty", "a/{b}/{b}": "uses {b} twice", "a/x{b}": "must be a whole level", "a/#/b": "only be the last", "a/b+": "mixes a wildcard", "{}": "must be a whole level",
	} {
		_, err := ParseTopic(text)
		assert.ErrorContains(t, err, wrong, text)
	}
}

func TestTemplatesBecomePaths(t *testing.T) {
	template, err := ParseTemplate("long-mere/{buoy}/oxygen", []string{"buoy"})
	require.NoError(t, err)
	path, err := template.Path(map[string]string{"buoy": "buoy-1"})
	require.NoError(t, err)
	assert.Equal(t, series.Path("long-mere/buoy-1/oxygen"), path)
	_, err = template.Path(map[string]string{"buoy": "a/b#"})
	assert.Error(t, err, "a topic level cannot smuggle in what no path may hold")
	_, err = ParseTemplate("a b/x", nil)
	assert.ErrorContains(t, err, "level 1")
}

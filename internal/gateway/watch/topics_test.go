package watch

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/gateway/payload"
)

func TestTopicsAreCountedAndBounded(t *testing.T) {
	begin := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	all := New(begin)
	buffer := []byte("21.5")
	for range 30 {
		all.Take("b/2", buffer, false, begin.Add(5*time.Second))
	}
	all.Take("b/10", []byte("a long one, cut to what is kept"+strings.Repeat(".", 9000)), true, begin)
	copy(buffer, "XXXX") // the buffer is its sender's
	topics, lost := all.Now(begin.Add(10 * time.Second))
	require.Len(t, topics, 2)
	assert.Zero(t, lost)
	assert.Equal(t, "b/10", topics[0].Name)
	assert.Len(t, topics[0].Last, mostKept)
	assert.True(t, topics[0].Retained)
	assert.Equal(t, []any{uint64(30), 3.0, 4.0, "21.5", "number"}, []any{
		topics[1].Messages, topics[1].Rate, topics[1].Bytes, string(topics[1].Last), topics[1].Guess.Form,
	})
	for i := range 2 * mostTopics {
		all.Take(fmt.Sprint("new/", i), nil, false, begin)
	}
	topics, lost = all.Now(begin)
	assert.Len(t, topics, mostTopics)
	assert.EqualValues(t, mostTopics+2, lost, "each message of a topic beyond is counted")
}

func published(pairs ...string) (out []Topic) {
	for i := 0; i < len(pairs); i += 2 {
		out = append(out, Topic{
			Name:  pairs[i],
			Last:  []byte(pairs[i+1]),
			Guess: payload.GuessOf(pairs[i], []byte(pairs[i+1])),
		})
	}
	return out
}

func TestTopicsOfTheSameShapeShareAnEntry(t *testing.T) {
	got := Propose(published("buoy/b-1/state", `{"at":"2026-03-01T08:00:00Z","oxygen":9}`, "buoy/b-2/state",
		`{"at":"2026-03-01T08:00:05Z","oxygen":8}`, "feed/silo-1/weight", "12 kg", "feed/silo-2/weight", "13 kg"))
	assert.Equal(t, `- topic: "buoy/{station}/state"
  payload: json
  time: "/at"
  values:
    - { at: "/oxygen", series: "{station}/oxygen" }
- topic: "feed/{station}/weight"
  payload: number
  followed_by: ["kg"]
  series: "{station}/weight"
`, got.Messages)
	assert.Equal(t, "- { select: +/+/weight, unit: \"kg\" }\n", got.Rules)
	assert.Empty(t, got.Skipped)
}

func TestRecordsAreReadOneByOne(t *testing.T) {
	got := Propose(published("logger/7",
		`{"rows":[{"id":"well-1","t":1772352000,"level":4.1,"dry":false},{"id":"well-2","t":1772352000,"level":3.9}]}`))
	assert.Equal(t, `- topic: "logger/7"
  payload: json
  records: "/rows"
  names: { device: "/id" }
  time: "/t"
  time_form: unix_s
  values:
    - { at: "/dry", series: "logger/7/{device}/dry" }
    - { at: "/level", series: "logger/7/{device}/level" }
`, got.Messages)
	assert.Equal(t, "- { select: +/+/+/+/dry, kind: state, states: { \"false\": 0, \"true\": 1 } }\n", got.Rules)
}

func TestSeveralPayloadsShowStatesAndCounters(t *testing.T) {
	at := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	all := New(at)
	for i, pump := range []string{"on", "off", "on", "blocked"} {
		all.Take("pump/1", fmt.Appendf(nil, `{"drive":%q,"energy":%d,"flow":%d,"still":7}`, pump, 1000+i, i%2), false,
			at)
		all.Take("pump/2", fmt.Appendf(nil, `{"drive":"resting","energy":%d,"flow":%d,"still":7}`, 40+2*i, i), false,
			at)
	}
	topics, _ := all.Now(at)
	got := Propose(topics)
	assert.Equal(t, `- { select: +/+/drive, kind: state, states: { "blocked": 2, "off": 0, "on": 1, "resting": 3 } } # and its other states
- { select: +/+/energy, kind: counter } # it only grew while it was watched
`, got.Rules, "the flow of one of them only grew too")
}

func TestALastLevelThatDiffersIsAQuantity(t *testing.T) {
	got := Propose(published("mast/wind_speed", "7.1", "mast/gust", "9.9"))
	assert.Equal(t, "- topic: \"mast/{quantity}\"\n  payload: number\n  series: \"mast/{quantity}\"\n", got.Messages)
}

func TestStatesGetRulesAndWhatSaysNothingIsNamed(t *testing.T) {
	got := Propose(published("gate/1", `{"lid":true,"drive":"moving"}`, "x/raw", "\x00\x01", "x/empty", `{"id":"b"}`,
		"spBv1.0/a/NDATA/n", "x"))
	assert.True(t, got.Sparkplug)
	assert.Contains(t, got.Messages, `{ at: "/drive", series: "gate/1/drive", state: true }`)
	assert.Contains(t, got.Messages, `{ at: "/lid", series: "gate/1/lid" }`)
	assert.Contains(t, got.Rules, `- { select: +/+/+/lid, kind: state, states: { "false": 0, "true": 1 } }`)
	assert.Contains(t, got.Rules,
		`- { select: +/+/+/drive, kind: state, states: { "moving": 2 } } # and its other states`)
	assert.Equal(t, []string{
		"x/raw: its payload is no form that is known. Of 2 bytes in a fixed order, say with payload: binary where its values stand",
		"x/empty: nothing in its payload is a value",
	}, got.Skipped)
}

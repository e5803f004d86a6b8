package payload

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config/shape"
)

// example is a configuration and what it makes of payloads.
type example struct {
	Keys     map[string]any `yaml:"keys"`
	Payloads []struct {
		Text    string   `yaml:"text"`
		Hex     string   `yaml:"hex"`
		Becomes []string `yaml:"becomes"` // series, time, value, unit
		Rejects []string `yaml:"rejects"` // parts of their reasons
		Clock   string   `yaml:"clock"`
	} `yaml:"payloads"`
}

// arrival is when the examples arrive.
var arrival = time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)

// examples reads the examples of a form; there must be some.
func examples(t testing.TB, form string) (all []example) {
	text, err := os.ReadFile("testdata/" + form + ".yaml")
	require.NoError(t, err, "each form has its examples")
	require.NoError(t, yaml.Unmarshal(text, &all))
	require.NotEmpty(t, all)
	return all
}

func (e example) messages(t testing.TB, form string) *Messages {
	e.Keys["payload"], e.Keys["topic"] = form, "t"
	text, err := json.Marshal(map[string]any{"messages": []any{e.Keys}})
	require.NoError(t, err)
	all, err := read(string(text))
	require.NoError(t, err, string(text))
	return NewMessages("s", all)
}

func read(text string) ([]Message, error) {
	var raw struct {
		Messages []shape.Part `yaml:"messages"`
	}
	f, at, err := shape.Read("m.yaml", []byte(text), &raw)
	if err != nil {
		return nil, err
	}
	all := ReadMessages(at.Key("messages"), "site", raw.Messages)
	return all, f.Err()
}

func bytesOf(t testing.TB, text, inHex string) []byte {
	raw, err := hex.DecodeString(strings.ReplaceAll(inHex, " ", ""))
	require.NoError(t, err)
	return append(append([]byte{}, raw...), text...)
}

func TestEveryFormDecodesItsExamples(t *testing.T) {
	for _, f := range forms {
		for _, e := range examples(t, f.name) {
			m := e.messages(t, f.name)
			for _, p := range e.Payloads {
				about := f.name + ": " + p.Text + p.Hex
				got := m.Decode(Arrived{Topic: "t", Payload: bytesOf(t, p.Text, p.Hex), At: arrival.UnixNano()})
				var lines []string
				for _, r := range got.Readings {
					what := fmt.Sprint(r.Value)
					if r.Text != "" {
						what = r.Text
					}
					lines = append(lines,
						strings.TrimSpace(fmt.Sprintf("%s %s %s %s", strings.TrimPrefix(string(r.Path), "site/"),
							timeText(r.Time), what, r.Unit)))
				}
				assert.Equal(t, p.Becomes, lines, about)
				assert.Equal(t, p.Clock, got.Clock, about)
				if assert.Len(t, got.Rejects, len(p.Rejects), about) {
					for i, r := range got.Rejects {
						assert.Contains(t, r.Reason, p.Rejects[i], about)
						assert.Equal(t, string(bytesOf(t, p.Text, p.Hex)), string(r.Raw))
					}
				}
			}
		}
	}
}

func timeText(t int64) string {
	switch ago := arrival.Sub(time.Unix(0, t)); {
	case ago == 0:
		return "now"
	case ago > 0 && ago < time.Minute:
		return "-" + ago.String()
	}
	return time.Unix(0, t).UTC().Format(time.RFC3339Nano)
}

func TestMistakesInMessagesAreNamed(t *testing.T) {
	for keys, wrong := range map[string]string{
		`payload: yaml`:             `payload form "yaml" is not known; use number, text, json, cbor, msgpack, xml, binary, senml_json or senml_cbor`,
		`series: a/b, values: []`:   `key "values" is not known here`,
		`series: "{c}/b"`:           "uses {c}, which neither topic nor payload binds (there is {station})",
		`series: a/b, decimal: dot`: `"dot" is not known; use point or comma`,
		`payload: text, values: [{ at: "1", series: a/b }]`:                                            "say how many columns a record has",
		`payload: text, columns: 2, values: [{ at: "3", series: a/b }]`:                                `"3" is not a column; columns are counted from 1 to 2`,
		`payload: text, columns: 2, pairs: "=", values: [{ at: a, series: a/b }]`:                      "leave columns out",
		`payload: text, columns: 2, records: ",", values: [{ at: "1", series: a/b }]`:                  "must differ",
		`payload: text, columns: 2, values: []`:                                                        "a text needs values:",
		`payload: json`:                                                                                "a json payload needs values:",
		`payload: json, values: [{ at: a, series: a/b }]`:                                              "is not a JSON Pointer (RFC 6901)",
		`payload: json, values: [{ at: /a, all_below: /b, series: a/b }]`:                              "give one of at, all_below and samples_of",
		`payload: json, values: [{ members_of: /a, all_below: /b, series: a/b }]`:                      "give one of members_of, items_of, all_below and samples_of",
		`payload: json, values: [{ samples_of: /a, series: a/b }]`:                                     "samples_of needs interval:",
		`payload: json, values: [{ at: /a, encoding: hex, series: a/b }]`:                              "give layout: too",
		`payload: json, values: [{ at: /a, series: a/b, layout: { values: [] } }]`:                     "give its values their series",
		`payload: json, concatenated: true, records: /a, values: [{ at: /a, series: a/b }]`:            "leave records out",
		`payload: json, thousands: point, values: [{ at: /a, series: a/b }]`:                           "a point cannot stand both",
		`payload: json, values: [{ at: /a, series: a/b, only_if: { at: /b } }]`:                        "say of which values it is to be one",
		`payload: json, values: [{ at: /a, series: a/b, bits: [4, 2] }]`:                               "is no bit or range of bits",
		`payload: json, values: [{ at: /a, series: a/b, base: 7 }]`:                                    "base 7 is not known",
		`compression: rar, series: a/b`:                                                                `"rar" is not known; use gzip, deflate, zstd`,
		`encoding: rot13, series: a/b`:                                                                 `"rot13" is not known; use base64 or hex`,
		`payload: text, columns: 2, header: true, pairs: "=", values: [{ at: "1", series: a/b }]`:      "leave columns out",
		`payload: text, pattern: "(", values: [{ at: "1", series: a/b }]`:                              "error parsing regexp",
		`payload: text, pattern: "T=(?P<t>.*)", values: [{ at: u, series: a/b }]`:                      "is no named group of the pattern",
		`payload: text, widths: [3, 0], values: [{ at: "1", series: a/b }]`:                            "columns of fixed widths",
		`payload: binary, values: [{ at: "0", series: a/b }]`:                                          "is not a byte and a type",
		`payload: binary, values: [{ at: "+0 uint8", series: a/b }]`:                                   "say with groups: where they are",
		`payload: binary, values: [{ at: "0.4 uint12 little", series: a/b }]`:                          "have no order little",
		`payload: binary, values: [{ at: "0 float24", series: a/b }]`:                                  "a float has 16, 32 or 64 bits",
		`payload: binary, byte_order: middle, values: [{ at: "0 uint8", series: a/b }]`:                "use big or little",
		`payload: binary, groups: { from: 1 }, values: [{ at: "+0 uint8", series: a/b }]`:              "say how many bytes each group has",
		`payload: json, values: [{ at: /a, series: "a/{key}" }]`:                                       "uses {key}",
		`payload: json, names: { station: /s }, values: [{ at: /a, series: a/b }]`:                     "{station} is bound twice",
		`payload: json, time_form: unix_s, values: [{ at: /a, series: a/b }]`:                          "say with time: where it stands",
		`payload: json, time: /t, time_form: unix_h, values: [{ at: /a, series: a/b }]`:                `time form "unix_h" is not known`,
		`payload: json, time: /t, time_form: uptime_s, values: [{ at: /a, series: a/b }]`:              "say with clock: where the payload says how long it runs",
		`payload: json, time: /t, time_zone: Berlin, values: [{ at: /a, series: a/b }]`:                `time_zone: "Berlin" is not known; did you mean Europe/Berlin?`,
		`payload: json, time: /t, correct_clock: true, values: [{ at: /a, series: a/b }]`:              "to correct a clock",
		`payload: json, time: /t, clock_offset: a/c, values: [{ at: /a, series: a/b }]`:                "to measure a clock",
		`payload: json, time: /t, clock: /c, clock_offset: "{c}/d", values: [{ at: /a, series: a/b }]`: "uses {c}",
		`payload: senml_json`: "SenML needs values:",
		`payload: senml_json, values: [{ name: "a:{b}:{b}", series: a/b }]`: "each once",
		`payload: senml_cbor, values: [{ series: a/b }]`:                    "say which name",
	} {
		_, err := read("messages:\n  - { topic: \"{station}/x\", " + keys + " }\n")
		require.Error(t, err, keys)
		assert.ErrorContains(t, err, wrong, keys)
		assert.ErrorContains(t, err, "m.yaml:2:", keys)
	}
	_, err := read("messages: []\n")
	assert.ErrorContains(t, err, "say which topics become which series")
}

// The document and pointers of RFC 6901, section 5, with numbers for values.
func TestPointersAreThoseOfRFC6901(t *testing.T) {
	doc, err := readJSON([]byte(`{"foo":[10,11],"":0,"a/b":1,"c%d":2,"e^f":3,"g|h":4,"k\"l":6," ":7,"m~n":8,"deep":{"er":[{"x":9.5}]}}`))
	require.NoError(t, err)
	for text, wanted := range map[string]float64{
		"/foo/0": 10, "/foo/1": 11, "/": 0, "/a~1b": 1, "/c%d": 2, "/e^f": 3, "/g|h": 4, "/k\"l": 6, "/ ": 7, "/m~0n": 8, "/deep/er/0/x": 9.5,
	} {
		p, err := parsePointer(text)
		require.NoError(t, err, text)
		found, err := p.in(doc)
		require.NoError(t, err, text)
		v, err := numberIn(found, text)
		require.NoError(t, err, text)
		assert.Equal(t, wanted, v, text)
	}
}

func FuzzPayloads(f *testing.F) {
	var all []*Messages
	for _, form := range forms {
		for _, e := range examples(f, form.name) {
			for _, p := range e.Payloads {
				f.Add(uint8(len(all)), bytesOf(f, p.Text, p.Hex))
			}
			all = append(all, e.messages(f, form.name))
		}
	}
	f.Fuzz(func(t *testing.T, which uint8, payload []byte) {
		got := all[int(which)%len(all)].Decode(Arrived{Topic: "t", Payload: payload, At: arrival.UnixNano()})
		if len(got.Rejects) > mostRejects || len(got.Readings) > mostValues ||
			len(got.Rejects)+len(got.Readings) > 10+8*len(payload) {
			t.Fatalf("%d readings and %d rejects of %d bytes", len(got.Readings), len(got.Rejects), len(payload))
		}
		if len(payload) < 4096 {
			_ = GuessOf("t", payload).String()
		}
	})
}

package payload_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/gateway/payload"
)

func TestPayloadsAreWhatTheySeemToBe(t *testing.T) {
	for _, test := range []struct {
		topic, raw string
		form, says string
		names      []string
	}{
		{"t", "21.5", "number", "a number", []string{""}},
		{"t", " -3e2 ", "number", "a number", []string{""}},
		{"t", "21.5 °C", "number", "a number and °C", []string{""}},
		{"t", "true", "number", "a number", []string{""}},
		{"t", "7.8 m/s 339", "text", `text, 3 columns, blanks between: 1, 3`, []string{"column_1", "column_3"}},
		{
			"t", "2026-03-01T08:00:00Z;4.1;open", "text", `text, 3 columns, ";" between: 2, 3; time at 1, rfc3339`,
			[]string{"column_2", "column_3"},
		},
		{
			"t", "temp=21,hum=60", "text", `text, names and values with "=" between, "," between pairs: temp, hum`,
			[]string{"temp", "hum"},
		},
		{
			"t", `{"at":"2026-03-01T08:00:00Z","water":{"t1":14},"on":true,"gate":"open","id":"b-1"}`, "json",
			"JSON: /gate, /on, /water/t1; time at /at, rfc3339", []string{"gate", "on", "t1"},
		},
		{"t", `{"ts":1772352000123,"a/b":1}`, "json", "JSON: /a~1b; time at /ts, unix_ms", []string{"a_b"}},
		{
			"t",
			`[{"bn":"urn:dev:1/","bt":1.7e9,"n":"temp","u":"Cel","v":21},{"n":"lid","vb":true},{"n":"mode","vs":"auto"},{"n":"energy","s":4}]`,
			"senml_json", "SenML in JSON: urn:dev:1/temp, urn:dev:1/lid, urn:dev:1/mode",
			[]string{"temp", "lid", "mode"},
		},
		{
			"t", `[1,2]`, "json",
			"JSON: /; likely, but an array is taken for several places, and not for several times", []string{"value"},
		},
		{"t", `[{"n":"x"}]`, "json", "JSON, an array of records", nil},
		{
			"t", `[{"id":"b-1","ts":1772352000,"temp":7},{"id":"b-2","ts":1772352001,"oxygen":9}]`, "json",
			"JSON, an array of records: /temp, /oxygen; who, at /id; time at /ts, unix_s", []string{"temp", "oxygen"},
		},
		{
			"t", `{"at":"2026-03-01T08:00:00Z","rows":[{"v":{"temp":7}},{"v":{"temp":8}}]}`, "json",
			"JSON, an array of records at /rows: /v/temp; time at /at, rfc3339", []string{"temp"},
		},
		{"t", `{"a":[{"x":1}],"b":[{"x":1}]}`, "json", "JSON", nil},
		{"t", "\xa1at\x15", "cbor", "CBOR: /t", []string{"t"}},
		{"t", "\x81\xa2\x00\x61x\x02\x18\x2a", "senml_cbor", "SenML in CBOR: x", []string{"x"}},
		{"t", "\xa1\x05\x15", "cbor", "CBOR: /5", []string{"5"}},
		{"spBv1.0/g/NBIRTH/n", "x", "sparkplug", "Sparkplug B", nil},
		{"t", "", "bytes", "bytes that say nothing", nil},
		{"t", "hello there", "bytes", "bytes that say nothing", nil},
		{"t", "\x00\xff", "bytes", "bytes that say nothing", nil},
	} {
		g := payload.GuessOf(test.topic, []byte(test.raw))
		assert.Equal(t, test.form, g.Form, test.raw)
		assert.Equal(t, test.says, g.String(), test.raw)
		var names []string
		for _, v := range g.Values {
			names = append(names, v.Name)
		}
		assert.Equal(t, test.names, names, test.raw)
	}
}

func TestTextsAndTruthsAreToldFromNumbers(t *testing.T) {
	g := payload.GuessOf("t", []byte(`[{"n":"lid","vb":false},{"n":"mode","vs":"auto"},{"n":"temp","u":"Cel","v":21}]`))
	require.Len(t, g.Values, 3)
	assert.Equal(t, payload.Guessed{At: "lid", Name: "lid", Sample: "false", Truth: true}, g.Values[0])
	assert.Equal(t, payload.Guessed{At: "mode", Name: "mode", Sample: "auto", State: true}, g.Values[1])
	assert.Equal(t, payload.Guessed{At: "temp", Name: "temp", Sample: "21", Unit: "Cel"}, g.Values[2])
	on, off := payload.GuessOf("t", []byte(`{"on":true}`)), payload.GuessOf("t", []byte(`{"on":false}`))
	assert.Equal(t, on.Signature(), off.Signature(), "the same lines read both")
	assert.True(t, on.Values[0].Truth && off.Values[0].Truth)
}

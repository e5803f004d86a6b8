package api_test

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

const pushToken = "salmon run at dawn"

func pushHeader(token, form, key string) http.Header {
	h := http.Header{"Authorization": {"Bearer " + token}, "Content-Type": {form}}
	if key != "" {
		h.Set("Idempotency-Key", key)
	}
	return h
}

func TestPushedReadingsAreOnDiskWhenTheAnswerComes(t *testing.T) {
	s := serve(t)
	base := s.Address
	c, ask := newContract(t, base), client.New(base)
	require.Eventually(t, func() bool {
		h, err := ask.Health(t.Context())
		return err == nil && h.Gateway.Sources[1].Up
	}, time.Minute, 10*time.Millisecond)
	count := func(path string) float64 {
		all, err := ask.Windows(t.Context(), client.WindowsQuery{
			Select: []string{path},
			Last:   "2y",
			Width:  "whole",
			Stats:  []string{"count"},
		})
		if err != nil {
			return 0
		}
		return float64(all.Series[0].Whole.Values["count"])
	}
	now := time.Now().UTC().Add(-time.Hour).Truncate(time.Second)
	at := func(i int) string { return now.Add(time.Duration(i) * time.Second).Format(time.RFC3339) }

	status, text := c.call(http.MethodPost, "/api/v1/readings",
		fmt.Appendf(nil, "series,time,value,unit\nmast/wind,%s,36,km/h\nmast/gate,%d,open,\n", at(0), now.Unix()),
		pushHeader(pushToken, "text/csv; charset=utf-8", ""))
	assert.Equal(t, 200, status)
	assert.JSONEq(t, `{"accepted":2,"refused":0,"rows":[]}`, text)
	latest, err := ask.Now(t.Context(), "stony-beck/mast/+")
	require.NoError(t, err)
	require.Len(t, latest.Values, 2)
	assert.Equal(t, "open", latest.Values[0].State)
	assert.InDelta(t, 10, float64(latest.Values[1].Value), 1e-9, "in the unit of the series")

	status, text = c.call(http.MethodPost, "/api/v1/readings", fmt.Appendf(nil, "time,series,value\n%s,mast/wind,5\nyesterday,mast/wind,5\n%s,mast/wind\n%s,mast/wind,1000\n%s,mast/gate,ajar\n%s,silo/feed,5\n%s,mast/x y,5\n%s,mast/wind,\n",
		at(1), at(2), at(3), at(4), at(5), at(6), at(7)), pushHeader(pushToken, "text/csv", ""))
	assert.Equal(t, 200, status)
	assert.Contains(t, text, `"accepted":1,"refused":7`)
	for _, wrong := range []string{
		`"place":"line 3","reason":"\"yesterday\" where an RFC 3339 time`, `"place":"line 4","reason":"2 columns, where the header has 3"`,
		`"place":"line 5","reason":"stony-beck/mast/wind: value 1000 is above the range's high end 100"`,
		`"place":"line 6","reason":"stony-beck/mast/gate: \"ajar\" is none of the series' states, which are closed, open"`,
		`"place":"line 7","reason":"sender mast may not send stony-beck/silo/feed"`, `"place":"line 8","reason":"series path`, `"place":"line 9","reason":"value is empty`,
	} {
		assert.Contains(t, text, wrong)
	}
	assert.EqualValues(t, 2, count("stony-beck/mast/wind"))

	pack, err := cbor.Marshal([]map[int]any{
		{-2: "mast/", -3: float64(now.Unix() + 10), 0: "wind", 1: "m/s", 2: 4}, {0: "wind", 6: 1, 2: 5},
	})
	require.NoError(t, err)
	status, text = c.call(http.MethodPost, "/api/v1/readings", pack,
		pushHeader(pushToken, "application/senml+cbor", ""))
	assert.Equal(t, 200, status, text)
	assert.EqualValues(t, 4, count("stony-beck/mast/wind"))

	timeless := []byte(`[{"n":"mast/rain","v":1},{"n":"mast/rain","v":2,"t":-5}]`)
	for range 3 {
		status, text = c.call(http.MethodPost, "/api/v1/readings", timeless,
			pushHeader(pushToken, "application/senml+json", "a-key"))
		assert.Equal(t, 200, status, text)
	}
	assert.EqualValues(t, 2, count("stony-beck/mast/rain"), "a retry counts once")
	_, err = ask.Push(t.Context(), pushToken, "application/senml+json", "another-key",
		strings.NewReader(string(timeless)))
	require.NoError(t, err)
	assert.EqualValues(t, 4, count("stony-beck/mast/rain"))
	status, text = c.call(http.MethodPost, "/api/v1/readings", []byte(`[{"n":"mast/rain","v":9}]`),
		pushHeader(pushToken, "application/senml+json", "a-key"))
	assert.Equal(t, 409, status)
	assert.Contains(t, text, "came before with another body, so nothing was stored")
	assert.EqualValues(t, 4, count("stony-beck/mast/rain"))
	before := count("stony-beck/mast/wind")
	would, err := ask.PreviewPush(t.Context(), pushToken, "text/csv",
		strings.NewReader("series,time,value,unit\nmast/wind,"+at(20)+",36,km/h\nmast/wind,"+at(21)+",500,m/s\nmast/gate,"+at(20)+",open,\nsilo/feed,"+at(20)+",1,\n"))
	require.NoError(t, err)
	assert.Equal(t, 2, would.Accepted)
	assert.Equal(t, []client.PreviewedRow{
		{Place: "line 2", Series: "stony-beck/mast/wind", Time: now.Add(20 * time.Second), Value: 10, Unit: "m/s"},
		{Place: "line 4", Series: "stony-beck/mast/gate", Time: now.Add(20 * time.Second), Value: 1, State: "open"},
	}, would.Previews)
	require.Len(t, would.Rows, 2)
	assert.Equal(t, "line 5", would.Rows[0].Place)
	assert.Contains(t, would.Rows[1].Reason, "above the range's high end 100")
	assert.Equal(t, before, count("stony-beck/mast/wind"), "nothing of it is stored")
	got, err := ask.Push(t.Context(), pushToken, "text/csv", "", strings.NewReader("series,time,value\nmast/wind,,x\n"))
	assert.ErrorContains(t, err, "none of the rows counts; the first: line 2:")
	assert.Equal(t, 1, got.Refused)
	kept, err := ask.Rejects(t.Context(), client.RejectFilter{Source: "scripts", Limit: 100})
	require.NoError(t, err)
	assert.Len(t, kept.Rejects, 8, "what is refused is kept too")
}

func TestAnyFormOfMessageCanBePushed(t *testing.T) {
	s := serve(t)
	c := newContract(t, s.Address)
	now := time.Now().UTC().Add(-time.Hour).Truncate(time.Second).Format(time.RFC3339)
	packed := func(text string) []byte {
		var out bytes.Buffer
		to := gzip.NewWriter(&out)
		_, _ = to.Write([]byte(text))
		_ = to.Close()
		return out.Bytes()
	}
	post := func(topic string, body []byte, header ...string) (int, string) {
		h := pushHeader(pushToken, "application/json", "")
		for i := 0; i < len(header); i += 2 {
			h.Set(header[i], header[i+1])
		}
		return c.call(http.MethodPost, "/api/v1/readings?topic="+topic, body, h)
	}
	good := `{"at":"` + now + `","wind":"5.5"}`
	for _, test := range []struct {
		topic  string
		body   []byte
		header []string
		status int
		said   string
	}{
		{"station/mast", []byte(good), nil, 200, `{"accepted":1,"refused":0,"rows":[]}`},
		{"station/mast", packed(good), []string{"Content-Encoding", "gzip"}, 200, `"accepted":1`},
		{"station/mast", []byte(`{"at":"` + now + `","wind":"-"}`), nil, 200, `{"accepted":0,"refused":0,"rows":[]}`},
		{"station/silo", []byte(good), nil, 422, "sender mast may not send stony-beck/silo/wind"},
		{
			"station/mast", []byte(`{"at":"` + now + `"}`), nil, 422,
			`{"place":"topic station/mast","reason":"stony-beck/mast/wind: payload has nothing at /wind"}`,
		},
		{"mast", []byte(good), nil, 422, "topic matches no messages: entry; those are station/{station}"},
		{"station/mast", []byte(good), []string{"Content-Encoding", "br"}, 415, "use gzip, deflate, zstd"},
		{"station/mast", []byte(good), []string{"Content-Encoding", "gzip"}, 422, "payload is not gzip"},
		{"station/mast", []byte(`{"at":"` + now + `","wind":500}`), nil, 422, "above the range's high end 100"},
		{
			"station/mast", packed(strings.Repeat(" ", 3000) + good), []string{"Content-Encoding", "gzip"}, 422,
			"more than 2000 bytes long, once unpacked",
		},
	} {
		status, text := post(test.topic, test.body, test.header...)
		assert.Equal(t, test.status, status, text)
		assert.Contains(t, text, test.said)
	}
	// What was refused is read again as a message; a row of a document is what it was.
	ask := client.New(s.Address)
	_, err := ask.Push(t.Context(), pushToken, "text/csv", "",
		strings.NewReader("series,time,value\nmast/wind,"+now+",700\nmast/wind,"+now+",x\n"))
	assert.Error(t, err)
	kept, err := ask.Rejects(t.Context(), client.RejectFilter{Source: "scripts", Limit: 100})
	require.NoError(t, err)
	places := map[uint64]string{}
	for _, r := range kept.Rejects {
		places[r.ID] = r.Place + " " + r.Reason
	}
	replayed, err := ask.Replay(t.Context(), client.Replay{Source: "scripts"})
	require.NoError(t, err)
	assert.Zero(t, replayed.Passed)
	var still []string
	for _, r := range replayed.Refused {
		still = append(still, places[r.ID]+" -> "+r.Reason)
	}
	said := strings.Join(still, "\n")
	assert.Regexp(t, `topic station/mast .*nothing at /wind -> .*nothing at /wind`, said, "a message is read again")
	assert.Regexp(t, `line 2 .*value 700 is above.* -> .*value 700 is above`, said, "a row is judged again")
	assert.Regexp(t, `line 3 .* -> `, said)
}

func TestPushesThatCannotBeTakenAreRefused(t *testing.T) {
	c := newContract(t, serve(t).Address)
	for _, test := range []struct {
		token, form, body string
		status            int
		wrong             string
	}{
		{"", "text/csv", "", 401, "no sender of an http_push source has this token"},
		{"salmon", "text/csv", "", 401, "Authorization: Bearer TOKEN"},
		{pushToken, "application/json", "", 415, "use application/senml+json, application/senml+cbor or text/csv"},
		{pushToken, "text/csv", strings.Repeat("x", 3000), 413, "max_body allows, 2000 bytes"},
		{pushToken, "text/csv", "", 422, "the header cannot be read"},
		{pushToken, "text/csv", "series,time\n", 422, "the header has no column value"},
		{pushToken, "text/csv", "series,time,value,colour\n", 422, `column \"colour\" of the header is not known`},
		{pushToken, "text/csv", "series,time,value\n\"a", 422, "line 2"},
		{pushToken, "application/senml+json", "{}", 422, "where SenML's array of records should be"},
		{pushToken, "application/senml+cbor", "\xff", 422, "payload is not CBOR"},
	} {
		status, text := c.call(http.MethodPost, "/api/v1/readings", []byte(test.body),
			pushHeader(test.token, test.form, ""))
		assert.Equal(t, test.status, status, text)
		assert.Contains(t, text, test.wrong)
	}
	status, _ := c.call(http.MethodPost, "/api/v1/readings", nil,
		pushHeader(pushToken, "text/csv", strings.Repeat("k", 201)))
	assert.Equal(t, 400, status)
}

package api_test

import (
	"net"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/sim"
)

// freePort returns where nothing listens yet; the simulators' library wants to listen itself.
func freePort(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

func TestToolsOfTheFieldAnswerAsDescribed(t *testing.T) {
	s := serve(t)
	c := newContract(t, s.Address)
	panel, err := sim.PumpPanel(sim.Field{Seed: 1}, freePort(t))
	require.NoError(t, err)
	defer panel.Close()
	device := panel.Address
	json := http.Header{"Content-Type": {"application/json"}}
	for _, test := range []struct {
		path, body string
		status     int
		says       string
	}{
		{
			"/api/v1/field/probe",
			`{"address":"DEVICE","unit":1,"table":"input","first":0,"count":2,"times":2,"every":"10ms","low":0,"high":400}`,
			200, `"keys":"address: 0, type:`,
		},
		{
			"/api/v1/field/probe", `{"address":"DEVICE","unit":1,"table":"coil","first":0,"count":1}`, 200,
			`"registers":[]`,
		},
		{
			"/api/v1/field/probe", `{"address":"DEVICE","unit":1,"table":"input","first":9000,"count":2}`, 502,
			"the device answers",
		},
		{"/api/v1/field/probe", `{"address":"DEVICE","unit":1,"count":201}`, 400, "1 to 200 at a time"},
		{"/api/v1/field/probe", `{"address":"DEVICE","unit":1,"count":1,"table":"registers"}`, 400, "is not known"},
		{
			"/api/v1/field/probe", `{"address":"DEVICE","unit":1,"count":1,"times":3,"like":[1]}`, 400,
			"one for each is needed",
		},
		{"/api/v1/field/probe", `{"address":"DEVICE","unit":1,"count":1,"timeout":"1h"}`, 400, "use 10ms to 10s"},
		{
			"/api/v1/field/probe", `{"address":"DEVICE","source":"x","unit":1,"count":1}`, 400,
			"say how the device is reached",
		},
		{"/api/v1/field/probe", `{"adress":"DEVICE","unit":1,"count":1}`, 400, `unknown field \"adress\"`},
		{"/api/v1/field/probe", `{"source":"nobody","unit":1,"count":1}`, 400, "no source that asks devices is called"},
		{"/api/v1/field/probe", `{"address":"nowhere","unit":1,"count":1}`, 400, "is not the address of a device"},
		{
			"/api/v1/field/scan", `{"address":"DEVICE","unit":1,"units":true,"to_unit":2,"from":0,"timeout":"50ms"}`,
			200, `"unit":1`,
		},
		{
			"/api/v1/field/scan", `{"address":"DEVICE","unit":1,"table":"input","from":0,"to":40,"pause":"1ms"}`, 200,
			`"first":0`,
		},
		{
			"/api/v1/field/scan",
			`{"address":"DEVICE","unit":1,"table":"input","from":0,"to":4000,"pause":"1ms","at_most":3}`, 200,
			"after 3 requests the scan ended",
		},
		{"/api/v1/field/scan", `{"address":"DEVICE","unit":1,"from":7,"to":3}`, 400, "the lower one first"},
		{
			"/api/v1/field/lines", `{"topics":[{"topic":"feed/silo-1/weight","last":"MTQzOC4wIGtn"}]}`, 200,
			`followed_by: [\"kg\"]`,
		},
		{"/api/v1/field/lines", `{"topics":[]}`, 400, "1 to 5000"},
		{"/api/v1/configuration/append", `{"rules":"- { select: x }"}`, 502, "was not started from a file"},
		{"/api/v1/reload", `{}`, 409, "was not started from a file"},
		{"/api/v1/rejects/replay", `{"ids":[99999]}`, 400, "there is no reject 99999"},
		{"/api/v1/rejects/replay", `{"ids":[1],"rule":"x"}`, 400, "give ids, or"},
		{"/api/v1/rejects/replay", `{"limit":-1}`, 400, "use 1 to 20000"},
		{"/api/v1/rejects/replay", `{"ids":[1]} x`, 400, "body"},
		{"/api/v1/rejects/replay", `{"ids":[1]}`, 200, "is not a number"},
		{"/api/v1/sources/nobody/try", `{"place":"x","raw":""}`, 404, "no source that can be tried"},
	} {
		body := strings.Replace(test.body, "DEVICE", device, 1)
		status, text := c.call(http.MethodPost, test.path, []byte(body), json)
		assert.Equal(t, test.status, status, "%s %s: %s", test.path, body, text)
		assert.Contains(t, text, test.says, body)
	}
	status, text := c.call(http.MethodPost, "/api/v1/field/probe", []byte("{}"),
		http.Header{"Content-Type": {"text/plain"}})
	assert.Equal(t, 415, status)
	assert.Contains(t, text, "use application/json", "so that a page from elsewhere cannot send it")
	for path, wrong := range map[string]string{
		"/api/v1/field/watch": "say what is watched", "/api/v1/field/watch?source=x": "no source that can be watched", "/api/v1/field/watch?address=x": "is not the address of a broker",
		"/api/v1/rejects/99999": "there is no reject 99999", "/api/v1/rejects/x": "is no number", "/api/v1/rejects/counts?from=x": "is no time",
		"/api/v1/series/versions": "is empty", "/api/v1/series/versions?path=a/b": "unknown", "/api/v1/rejects?cursor=0": "use 1 to",
	} {
		_, text := c.get(path)
		assert.Contains(t, text, wrong, path)
	}
	_, text = c.get("/api/v1/series/versions?path=stony-beck/raceway-1/oxygen")
	assert.Contains(t, text, `"since":null`)
	_, text = c.get("/api/v1/rejects/counts?from=2026-03-01T00:00:00Z&to=2026-03-02T00:00:00Z")
	assert.Contains(t, text, `"counts":[`)
}

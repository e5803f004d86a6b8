package api_test

import (
	"bytes"
	"context"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/api"
	"nexocumula/internal/access"
	apiserver "nexocumula/internal/api"
	"nexocumula/internal/config"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/kinds"
	"nexocumula/internal/service"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/sqlite"
	"nexocumula/internal/wire"
)

// begin is when the made-up readings begin.
var begin = time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)

const bothConfig = `
data: DIR/data
listen: 127.0.0.1:0
gateway:
  site: stony-beck
  sources:
    - { name: own, mqtt_listener: { address: "127.0.0.1:0", messages: [{ topic: "feed/{silo}", series: "{silo}/feed" }] } }
    - { name: scripts, http_push: { max_body: 2000, senders: [{ name: mast, secret_file: DIR/token, series: "+/mast/+" }], messages: [{ topic: "station/{station}", payload: json, time: /at, values: [{ at: /wind, series: "{station}/wind", not_available: ["-"] }] }] } }
  series:
    - { select: stony-beck/mast/wind, unit: m/s, high: 100 }
    - { select: stony-beck/mast/gate, kind: state, states: { closed: 0, open: 1 } }
  uplinks:
    - { name: head-office, address: "http://127.0.0.1:1", secret_file: DIR/secret }
central:
  accept: [{ gateway: long-mere, secret_file: DIR/secret }]
`

// serve runs a service that is gateway and central, with an hour of readings, one
// a minute, rising from 0.
func serve(t *testing.T) *service.Service {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("trout"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "token"), []byte(pushToken), 0o600))
	settings, err := config.Parse("both.yaml", []byte(strings.ReplaceAll(bothConfig, "DIR", dir)), kinds.All)
	require.NoError(t, err)
	s, err := service.Open(settings, "test", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	write(t, s.Store)
	ctx, stop := context.WithCancel(context.Background())
	stopped := make(chan error, 1)
	go func() { stopped <- s.Run(ctx) }()
	t.Cleanup(func() {
		stop()
		assert.NoError(t, <-stopped)
	})
	return s
}

func write(t *testing.T, st *store.Store) {
	def := series.Definition{
		Path:     "stony-beck/raceway-1/oxygen",
		Kind:     series.Gauge,
		Unit:     "mg/l",
		FreshFor: time.Minute,
	}
	ids, err := st.Define(t.Context(), []series.Definition{def})
	require.NoError(t, err)
	rows := column.New(1, 60)
	for i := range 60 {
		rows.Add(begin.Add(time.Duration(i)*time.Minute).UnixNano(), float64(i))
	}
	summaries := rollup.NewBlock(series.Gauge, 60)
	for i := range 60 {
		start := begin.Add(time.Duration(i) * time.Minute).UnixNano()
		rollup.Fold(rows, start, start+int64(time.Minute), &def).AddTo(&summaries, start, def.Kind)
	}
	reject := (&reading.Origin{Source: "own", Place: "feed/x", Raw: []byte{0xff}}).Reject(begin.UnixNano(),
		"for the test")
	require.NoError(t, st.Append(t.Context(), engine.Batch{
		Entries: []engine.Entry{
			{Series: ids[0], Tier: series.Readings, Rows: rows},
			{Series: ids[0], Tier: series.Minute, Rows: summaries},
		},
		Also: []sqlite.Change{st.Rejects.Add([]reading.Reject{reject})},
	}))
}

// contract holds requests and responses to the description.
type contract struct {
	t      *testing.T
	router routers.Router
	base   string
}

func newContract(t *testing.T, base string) contract {
	doc, err := openapi3.NewLoader().LoadFromData(api.OpenAPI)
	require.NoError(t, err)
	require.NoError(t, doc.Validate(t.Context()))
	for _, schema := range doc.Components.Schemas {
		closed(schema.Value)
	}
	doc.Servers = openapi3.Servers{{URL: base}}
	router, err := gorillamux.NewRouter(doc)
	require.NoError(t, err)
	return contract{t, router, base}
}

// closed makes a schema refuse fields that it does not describe. Clients have to bear them; here each has to be described.
func closed(s *openapi3.Schema) {
	if s == nil {
		return
	}
	if len(s.Properties) > 0 && s.AdditionalProperties.Has == nil && s.AdditionalProperties.Schema == nil {
		no := false
		s.AdditionalProperties.Has = &no
	}
	for _, p := range s.Properties {
		if p.Ref == "" {
			closed(p.Value)
		}
	}
	if s.Items != nil && s.Items.Ref == "" {
		closed(s.Items.Value)
	}
}

// call makes a request and checks its response.
func (c contract) call(method, path string, body []byte, header http.Header) (int, string) {
	c.t.Helper()
	req, err := http.NewRequestWithContext(c.t.Context(), method, c.base+path, bytes.NewReader(body))
	require.NoError(c.t, err)
	for k, v := range header {
		req.Header[k] = v
	}
	route, params, err := c.router.FindRoute(req)
	require.NoError(c.t, err, path)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(c.t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(c.t, err)
	err = openapi3filter.ValidateResponse(c.t.Context(), &openapi3filter.ResponseValidationInput{
		RequestValidationInput: &openapi3filter.RequestValidationInput{Request: req, PathParams: params, Route: route},
		Status:                 resp.StatusCode, Header: resp.Header, Body: io.NopCloser(bytes.NewReader(text)),
		Options: &openapi3filter.Options{IncludeResponseStatus: true},
	})
	require.NoError(c.t, err, "%s %s answered %d %s", method, path, resp.StatusCode, text)
	return resp.StatusCode, string(text)
}

func (c contract) get(path string) (int, string) {
	c.t.Helper()
	return c.call(http.MethodGet, path, nil, nil)
}

func TestAnswersAreAsDescribed(t *testing.T) {
	s := serve(t)
	c := newContract(t, s.Address)
	window := "from=2026-03-01T08:00:00Z&to=2026-03-01T09:00:00Z"
	for _, test := range []struct {
		path   string
		status int
		says   string
	}{
		{"/api/v1/health", 200, `"site":"stony-beck"`},
		{"/api/v1/series", 200, "stony-beck/raceway-1/oxygen"},
		{"/api/v1/series?select=stony-beck/%2B/oxygen", 200, "mg/l"},
		{"/api/v1/series?select=%2B%2B", 400, `level 1: \"++\" holds '+'`},
		{"/api/v1/now", 200, `"value":59`},
		{"/api/v1/now?select=stony-beck/raceway-1/oxigen", 404, "near it are stony-beck/raceway-1/oxygen"},
		{"/api/v1/rejects", 200, "for the test"},
		{"/api/v1/rejects?source=other", 200, `"rejects":[]`},
		{"/api/v1/rejects?limit=0", 400, "use 1 to 1000"},
		{"/api/v1/uplinks", 200, "head-office"},
		{"/api/openapi.yaml", 200, "openapi: 3.1.0"},
		// 08:00 to 08:14 hold 0 to 14: mean 7, sample sd of 15 consecutive numbers sqrt(20).
		{
			"/api/v1/windows?select=%23&width=15m&stats=mean,min,max,count,sum,sd,range,first,last,coverage&" + window,
			200, `"mean":[7,22,37,52]`,
		},
		{"/api/v1/windows?select=%23&width=15m&stats=sd&" + window, 200, `"sd":[4.47213595499958`},
		{"/api/v1/windows?select=%23&width=30s&stats=count&" + window, 200, `"tier":"10s"`},
		{"/api/v1/windows?select=%23&width=7s&stats=count&" + window, 200, `"tier":"readings"`},
		{
			"/api/v1/windows?select=%23&from=2026-03-01T07:58:00Z&to=2026-03-01T08:02:00Z&width=1m&gaps=-1&stats=last",
			200, `"last":[-1,-1,0,1]`,
		},
		{
			"/api/v1/windows?select=stony-beck/raceway-1/oxygen&select=%23&width=15m&stats=mean&" + window, 200,
			`"mean":[7,22,37,52]`,
		},
		{
			"/api/v1/windows?select=stony-beck/raceway-1/oxygen&select=stony-beck/raceway-1/oxigen&last=1h", 404,
			"no series matches \\\"stony-beck/raceway-1/oxigen\\\"; near it are stony-beck/raceway-1/oxygen",
		},
		{"/api/v1/windows?select=a&select=", 400, "select is missing"},
		{
			"/api/v1/windows?last=1h" + strings.Repeat("&select=a", 501), 400,
			"select is given 501 times; at most 500 are read",
		},
		{"/api/v1/now?select=a&select=b", 400, "select is given twice"},
		{"/api/v1/windows", 400, "select is missing"},
		{"/api/v1/windows?select=%23&from=yesterday", 400, "is no time; write a date such as"},
		{"/api/v1/windows?select=%23&to=2026-03-01T08:00:00Z", 400, "from is missing"},
		{"/api/v1/windows?select=%23&last=1h&" + window, 400, "use one of them"},
		{"/api/v1/windows?select=%23&from=2026-03-01T09:00:00Z&to=2026-03-01T08:00:00Z", 400, "range is reversed"},
		{"/api/v1/windows?select=%23&from=2026-03-01T09:00:00Z&to=2026-03-01T09:00:00Z", 400, "range is empty"},
		{"/api/v1/windows?select=%23&zone=Mars/Base&last=1h", 400, "write an IANA name"},
		{"/api/v1/windows?select=%23&hours=8-20&last=1h", 400, "write two different times of day"},
		{"/api/v1/windows?select=%23&days=noday&last=1h", 400, "mon-fri"},
		{"/api/v1/windows?select=%23&stride=1h&last=1d", 400, "stride is given without width"},
		{"/api/v1/windows?select=%23&newest=0&last=1d", 400, "from 1"},
		{"/api/v1/windows?select=%23&origin=noon&last=1d", 400, "origin:"},
		{"/api/v1/windows?select=%23&range=soon", 400, "today, yesterday"},
		{"/api/v1/windows?select=%23&across=median&last=1h", 400, "use mean, sum, min, max"},
		{"/api/v1/windows?select=%23&by=level:1&last=1h", 400, "give across as well"},
		{"/api/v1/windows?select=%23&across=mean&by=colour&last=1h", 400, "label and a key"},
		{"/api/v1/windows?select=%23&shift=1x&last=1h", 400, "shift"},
		{"/api/v1/windows?select=%23&unit=K&last=1h", 400, "mg/l cannot be converted to K; possible are g/l, kg/m3"},
		{
			"/api/v1/windows?select=%23&stats=increase&last=1h", 400,
			"is for series of kind counter; stony-beck/raceway-1/oxygen is a gauge",
		},
		{"/api/v1/windows?select=%23&widht=1h", 400, `parameter \"widht\" is not known; use some of select`},
		{"/api/v1/windows?calc=a=b&last=1h", 400, "input is missing beside calc"},
		{"/api/v1/windows?input=b=x/y&last=1h", 400, "nothing to calculate"},
		{"/api/v1/windows?input=b=x/y&calc=a=b&select=%23", 400, "leave it out"},
		{"/api/v1/windows?select=%23&label=depth&last=1h", 400, "write key=value"},
		{"/api/v1/windows?select=%23&label=depth=3m&last=1h", 404, "no series matches"},
		// An hour from 0 to 59: its mean is 29.5; in kg/m3 a thousandth.
		{"/api/v1/windows?select=%23&width=whole&unit=kg/m3&stats=mean,max_at&" + window, 200, `"mean":[0.029`},
		{"/api/v1/windows?select=%23&width=whole&stats=max_at&" + window, 200, `"max_at":["2026-03-01T08:59:00Z"]`},
		{"/api/v1/windows?select=%23&width=30m&shift=30m&stats=first&" + window, 200, `"first":[null,0]`},
		{"/api/v1/windows?select=%23&width=30m&across=max&by=level:1&stats=last&" + window, 200, `"name":"stony-beck"`},
		{
			"/api/v1/windows?input=o=stony-beck/raceway-1/oxygen@max&calc=above=o%3E40&width=30m&" + window, 200,
			`"value":[0,1]`,
		},
		{
			"/api/v1/windows?input=o=stony-beck/raceway-1/oxygen&calc=twice=2*o%2Babs(-1)&width=30m&" + window, 200,
			`"value":[30,90]`,
		},
		{"/api/v1/windows?select=%23&width=20m&stride=30m&stats=count,p50&" + window, 200, `"p50":[9.5,39.5]`},
		{"/api/v1/moment?select=%23&at=2026-03-01T08:10:30Z", 200, `"value":10`},
		{"/api/v1/excursions?from=2026-03-01T07:00:00Z&to=2026-03-01T10:00:00Z", 200, `"excursions":[`},
		{"/api/v1/excursions", 200, `"outages":[`},
		{"/api/v1/gaps?last=30d", 200, `"causes":[`},
		{"/api/v1/gaps?format=csv", 200, "series,from,to,of,cause,detail,author,length_ms\n"},
		{"/api/v1/gaps?cause=fog", 400, "is not known; use one of"},
		{"/api/v1/gaps?select=no/such", 404, "no series matches"},
		{"/api/v1/gaps?format=arrow", 406, "use json or csv"},
		{"/api/v1/excursions?last=x", 400, "write a whole number"},
		{"/api/v1/excursions?select=no/such", 404, "no series matches"},
		{"/api/v1/excursions?zone=Middle/Earth", 400, "is not known"},
		{"/api/v1/moment?select=%23&at=2026-03-01T08:10:31Z&how=nearest", 200, `"value":11`},
		{"/api/v1/moment?select=%23&at=2026-03-01T08:10:31Z&how=at", 404, "no series of # has a reading at"},
		{"/api/v1/moment?select=%23&at=2026-03-01T07:10:00Z&how=before", 404, "no series of"},
		{"/api/v1/moment?select=%23&at=2026-03-01T07:10:00Z&how=nearest&within=10m", 404, ", within 10m"},
		{"/api/v1/moment?select=%23&how=before", 400, "at is missing"},
		{"/api/v1/moment?select=%23&at=2026-03-01T07:10:00Z&how=roughly", 400, "use before"},
		{"/api/v1/moment?select=%23&at=9999-03-01T07:10:00Z&how=nearest", 400, "not within the years"},
		{"/api/v1/moment?select=%23&at=2199-03-01T07:10:00Z&how=nearest", 200, `"value":59`},
		{"/api/v1/windows?select=%23&last=900y", 400, "not within the years"},
		{"/api/v1/windows?select=%23&width=300y", 400, "reaches beyond the year 2200"},
		{"/api/v1/windows?select=%23&width=1h&shift=500y", 400, "begin before the year 1971"},
		{"/api/v1/windows?select=%23&width=1h&origin=0001-01-01T00:00:01Z", 400, "origin"},
		{"/api/v1/series?label=depth=3m", 404, "with depth=3m"},
		{"/api/v1/windows?select=%23&last=300w&width=10s", 400, "ask for a shorter range"},
		{"/api/v1/windows?select=%23&last=1h&stats=median", 400, `stat \"median\" is not known`},
		{"/api/v1/windows?select=%23&last=1h&gaps=guess", 400, "use leave, carry, carry:30m"},
		{"/api/v1/windows?select=%23&last=soon", 400, "write a whole number"},
		{"/api/v1/windows?select=nowhere/at/all&last=1h", 404, "no series matches"},
		// Given twice, or not known anywhere.
		{"/api/v1/windows?select=%23&width=1h&width=2h", 400, `width is given twice, \"1h\" and \"2h\"`},
		{"/api/v1/now?selects=%23", 400, `parameter \"selects\" is not known; use some of select, label`},
		{"/api/v1/now?select=%25zz%zz", 400, "the query cannot be read"},
		{"/api/v1/windows?select=%zz", 400, "the query cannot be read"},
		{"/api/v1/health?x=1", 400, "this call takes none"},
		{"/api/v1/moment?select=%23&at=2026-03-01T08:10:30Z&unit=K", 400, `\"unit\" is not known`},
		{
			"/api/v1/windows?select=%23&width=whole&origin=2026-03-01&" + window, 400,
			"origin says nothing of the whole range",
		},
		{"/api/v1/windows?select=%23&width=whole&stride=1h&" + window, 400, "stride says nothing of the whole range"},
		{"/api/v1/windows?select=%23&stats=p1e1", 400, `\"p1e1\" is not known`},
		{
			"/api/v1/windows?input=a=stony-beck/raceway-1/oxygen&calc=a=1", 400,
			"an input or a calculation before it has this name",
		},
		{"/api/v1/windows?select=%23&last=-1h", 400, "write it without a sign, such as last=1h"},
		{"/api/v1/windows?select=%23&from=2199-01-01", 400, "is not over yet, and without to the range ends now"},
		{"/api/v1/series?select=b%C3%B6je", 400, `holds 'ö'`},
		{"/api/v1/windows?select=%23&unit=" + strings.Repeat("x", 40_000), 414, "at most 32768 are read"},
		{"/api/v1/windows?select=%23&format=xml", 406, "use one of [json csv arrow wide]"},
		// What can be asked.
		{
			"/api/v1/windows?select=%23&from=2026-03-01%2008:00&to=2026-03-01%2009:00&zone=Europe/Lisbon&width=whole&stats=count",
			200, `"count":[60]`,
		},
		{
			"/api/v1/windows?select=%23&from=2026-03-01T08:10:00Z&to=2026-03-01T08:50:00Z&width=30m&stats=count", 200,
			`"count":[30,30]`,
		},
		{
			"/api/v1/windows?select=%23&from=2026-03-01T08:10:00Z&to=2026-03-01T08:50:00Z&width=30m&stats=count&edges=clipped",
			200, `"count":[20,20]`,
		},
		{
			"/api/v1/windows?select=%23&width=whole&hours=08:00-08:05,08:10-08:15&stats=count,max_at&" + window, 200,
			`"max_at":["2026-03-01T08:14:00Z"]`,
		},
		{
			"/api/v1/windows?select=%23&width=1d&except=2026-03-01&from=2026-03-01&to=2026-03-02", 400,
			"none of the range",
		},
		{
			"/api/v1/windows?select=%23&width=10m&stats=min,max&then=mean,p50&" + window, 200,
			`"then":{"max":{"mean":34,"p50":34},"min":{"mean":25,"p50":25}}`,
		},
		{"/api/v1/windows?select=%23&width=30m&fold=day&stats=mean&" + window, 200, `"places":["08:00","08:30"]`},
		{"/api/v1/windows?select=%23&width=30m&stats=above:44,above_first:9&" + window, 200, `"above:44":[0,900]`},
		{"/api/v1/windows?select=%23&width=30m&stats=slope/h&" + window, 200, `"units":{"slope/h":"mg/l/h"}`},
		{
			"/api/v1/windows?select=%23&width=whole&stats=mean&gaps=5&unit=g/l&from=2026-03-02&to=2026-03-03", 200,
			`"mean":[5]`,
		},
		{
			"/api/v1/windows?input=o=stony-beck/%2B/oxygen@max&by=level:2&calc=a=o%2B1&calc=b=2*a&width=whole&" + window,
			200, `"name":"stony-beck/raceway-1 b"`,
		},
		{"/api/v1/windows?select=%23&lowest=1&rank=max&stats=min,max&width=whole&" + window, 200, `"rank":1`},
		{
			"/api/v1/windows?select=%23&explain=true&width=15m&" + window, 200,
			`"explained":{"why":"","read":[{"tier":"1m"`,
		},
		{"/api/v1/windows?select=%23&explain=true&width=50s&" + window, 200, "inside a summary of 1m"},
		{
			"/api/v1/readings?select=%23&from=2026-03-01T08:00:00Z&to=2026-03-01T08:02:00Z", 200,
			`[{"time":"2026-03-01T08:00:00Z","value":0},{"time":"2026-03-01T08:01:00Z","value":1}]`,
		},
		{
			"/api/v1/readings?select=%23&limit=1&format=csv&" + window, 200,
			"series,time,value,unit\nstony-beck/raceway-1/oxygen,2026-03-01T08:00:00Z,0,mg/l\n",
		},
		{
			"/api/v1/windows?select=%23&width=1h&format=csv&stats=mean,max_at&" + window, 200,
			"series,start,end,place,mean,max_at,unit,empty,filled,open,missing\nstony-beck/raceway-1/oxygen,2026-03-01T08:00:00Z,2026-03-01T09:00:00Z,,29.5,2026-03-01T08:59:00Z,mg/l,false,false,false,\n",
		},
	} {
		status, text := c.get(test.path)
		where, _ := url.QueryUnescape(test.path)
		assert.Equal(t, test.status, status, where)
		assert.Contains(t, text, test.says, where)
	}
}

func TestAnAnswerGoesUpToNow(t *testing.T) {
	s := serve(t)
	c := newContract(t, s.Address)
	ask := "/api/v1/windows?select=%23&from=2026-03-01T08:45:00Z&to=2026-03-01T09:15:00Z&width=15m&stats=mean,count"
	_, text := c.get(ask)
	assert.Contains(t, text, `"mean":[52,null]`)
	rows := column.New(1, 2) // two minutes later, of which no summary has been made
	rows.Add(begin.Add(time.Hour+5*time.Second).UnixNano(), 1000)
	rows.Add(begin.Add(time.Hour+65*time.Second).UnixNano(), 2000)
	require.NoError(t,
		s.Store.Append(t.Context(),
			engine.Batch{Entries: []engine.Entry{{Series: 1, Tier: series.Readings, Rows: rows}}}))
	_, text = c.get(ask)
	assert.Contains(t, text, `"count":[15,2]`)
	assert.Contains(t, text, `"mean":[52,1500]`)
}

func TestReplicationIsGuarded(t *testing.T) {
	s := serve(t)
	c := newContract(t, s.Address)
	envelope := func(e wire.Envelope) []byte {
		e.Gateway, e.Session, e.Status = "long-mere", "one", wire.Status{Version: "test"}
		body, err := e.Encode()
		require.NoError(t, err)
		return body
	}
	good, late := envelope(wire.Envelope{Number: 2}), envelope(wire.Envelope{Number: 1})
	junk := envelope(wire.Envelope{Number: 3, Batch: []byte{1}})
	for _, test := range []struct {
		name, token string
		body        []byte
		status      int
		says        string
	}{
		{"no token", "", good, 401, "token is missing"},
		{"a wrong token", "salmon", good, 401, "token is missing or not known"},
		{"no envelope", "trout", []byte("hello"), 422, "docs/replication.md"},
		{"a sign of life", "trout", good, 200, `"stored":0`},
		{"one that was overtaken", "trout", late, 409, "came after request 2"},
		{"a batch that is none", "trout", junk, 422, "batch is not zstd"},
		{"too large", "trout", make([]byte, wire.MaxEnvelope+1), 413, "larger than 4 MiB"},
	} {
		header := http.Header{"Content-Type": {wire.ContentType}}
		if test.token != "" {
			header.Set("Authorization", "Bearer "+test.token)
		}
		status, text := c.call(http.MethodPost, "/api/v1/replication", test.body, header)
		assert.Equal(t, test.status, status, test.name)
		assert.Contains(t, text, test.says, test.name)
	}
	_, kept := c.get("/api/v1/rejects?source=replication")
	assert.Contains(t, kept, "batch is not zstd", "what could not be read is kept")
}

// The router is made from the same table.
func TestEveryCallIsDescribedWithTheRoleItNeeds(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromData(api.OpenAPI)
	require.NoError(t, err)
	described := map[string]apiserver.Needs{}
	for path, item := range doc.Paths.Map() {
		for method, operation := range item.Operations() {
			role, _ := operation.Extensions["x-role"].(string)
			ofAll, _ := operation.Extensions["x-of-all"].(bool)
			own, _ := operation.Extensions["x-own"].(bool)
			described[method+" "+path] = apiserver.Needs{Role: access.Role(role), OfAll: ofAll, Own: own}
			assert.Equal(t, role == "anyone", operation.Security != nil && len(*operation.Security) == 0, "%s %s",
				method, path)
		}
	}
	assert.Equal(t, described, apiserver.Calls())
}

func TestAProcessThatIsBothKnowsOfEachSeriesWhetherItsReadingsAreHere(t *testing.T) {
	s := serve(t)
	ids, err := s.Store.Define(t.Context(), []series.Definition{{
		Path:     "long-mere/buoy-1/oxygen",
		Kind:     series.Gauge,
		Unit:     "mg/l",
		FreshFor: time.Minute,
	}})
	require.NoError(t, err)
	rows := rollup.NewBlock(series.Gauge, 60)
	for i := range int64(60) {
		start := begin.UnixNano() + i*int64(time.Minute)
		rollup.Summary{
			Count:   6,
			Mean:    9,
			Min:     9,
			Max:     9,
			First:   9,
			Last:    9,
			MinAt:   start,
			MaxAt:   start,
			FirstAt: start,
			LastAt:  start + 50e9,
		}.AddTo(&rows,
			start, series.Gauge)
	}
	require.NoError(t,
		s.Store.Append(t.Context(),
			engine.Batch{Entries: []engine.Entry{{Series: ids[0], Tier: series.Minute, Rows: rows}}}))
	c := newContract(t, s.Address)
	_, text := c.get("/api/v1/windows?select=%2B/%2B/oxygen&from=2026-03-01T08:00:00Z&to=2026-03-01T09:00:00Z&width=1h&stats=count")
	assert.Contains(t, text, `"count":[360]`)
	assert.Contains(t, text, `"count":[60]`)
	status, text := c.get("/api/v1/windows?select=long-mere/buoy-1/oxygen&from=2026-03-01T08:00:00Z&to=2026-03-01T09:00:00Z&width=1h&stats=count,p95")
	assert.Equal(t, 400, status, "and refuses what only readings could answer")
	assert.Contains(t, text, "need the readings themselves")
	for _, u := range s.Uplinks() {
		assert.Less(t, u.Backlog.Rows, 100, "the gateway's uplink sends its own series and not those of others")
	}
}

func TestWindowsThatMayStillChangeAreMarkedOpen(t *testing.T) {
	s := serve(t)
	c := newContract(t, s.Address)
	now := time.Now().UTC()
	rows := column.New(1, 1)
	rows.Add(now.Add(-time.Second).UnixNano(), 1)
	require.NoError(t,
		s.Store.Append(t.Context(),
			engine.Batch{Entries: []engine.Entry{{Series: 1, Tier: series.Readings, Rows: rows}}}))
	status, text := c.get("/api/v1/windows?select=stony-beck/%23&last=10m&width=5m&stats=count")
	assert.Equal(t, 200, status)
	assert.Regexp(t, `"open":\[false,((false|true),)?true\]`, text,
		"just after its end, a window still waits for what is late")
}

func TestAClientThatStopsReadingIsGivenUp(t *testing.T) {
	reader, writer := net.Pipe() // holds nothing: a write waits for a read
	defer reader.Close()
	stuck := make(chan error, 1)
	server := &http.Server{Handler: apiserver.WithDeadlines(50*time.Millisecond, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		for {
			if _, err := w.Write(make([]byte, 1<<16)); err != nil {
				stuck <- err
				return
			}
		}
	}))}
	go func() { _ = server.Serve(&oneConn{conn: writer}) }()
	defer server.Close()
	_, err := reader.Write([]byte("GET / HTTP/1.1\r\nHost: x\r\n\r\n"))
	require.NoError(t, err)
	assert.ErrorIs(t, <-stuck, os.ErrDeadlineExceeded)
}

// oneConn is a listener with one connection.
type oneConn struct {
	conn net.Conn
	once sync.Once
}

func (l *oneConn) Accept() (net.Conn, error) {
	var first net.Conn
	l.once.Do(func() { first = l.conn })
	if first == nil {
		return nil, net.ErrClosed
	}
	return first, nil
}

func (l *oneConn) Close() error   { return nil }
func (l *oneConn) Addr() net.Addr { return l.conn.LocalAddr() }

func TestThePagesOfTheConsoleAndUnknownCalls(t *testing.T) {
	s := serve(t)
	for path, status := range map[string]int{"/api/v1/nothing": 404, "/api/v2/now": 404, "//api/v1/now": 404} {
		resp, err := http.Get(s.Address + path)
		require.NoError(t, err)
		text, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		require.NoError(t, err)
		assert.Equal(t, status, resp.StatusCode, path)
		assert.Contains(t, string(text), "openapi.yaml", path)
	}
	head, err := http.Head(s.Address + "/api/v1/now")
	require.NoError(t, err)
	head.Body.Close()
	assert.Equal(t, "application/json; charset=utf-8", head.Header.Get("Content-Type"))
	resp, err := http.Post(s.Address+"/api/v1/now", "text/plain", nil)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, http.StatusMethodNotAllowed, resp.StatusCode)
	assert.Equal(t, "nosniff", resp.Header.Get("X-Content-Type-Options"))
}

package api_test

import (
	"bytes"
	"compress/gzip"
	"encoding/csv"
	"io"
	"math"
	"net/http"
	"testing"
	"time"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/ipc"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

var hour = client.WindowsQuery{
	Select: []string{"#"},
	From:   begin,
	To:     begin.Add(time.Hour),
	Width:  "15m",
	Stats:  []string{"mean", "sd", "max_at"},
}

func TestArrowHasWhatJSONHas(t *testing.T) {
	c := client.New(serve(t).Address)
	q := hour
	q.To = begin.Add(2 * time.Hour) // the second hour is empty
	want, err := c.Windows(t.Context(), q)
	require.NoError(t, err)
	var body bytes.Buffer
	require.NoError(t, c.WindowsAs(t.Context(), q, "arrow", &body))
	stream, err := ipc.NewReader(&body)
	require.NoError(t, err)
	defer stream.Release()
	require.True(t, stream.Next())
	record := stream.RecordBatch()
	assert.Equal(t, []string{
		"series", "start", "end", "place", "mean", "sd", "max_at", "unit", "empty", "filled", "open",
	}, names(record.Schema().NumFields(), record.ColumnName))
	require.EqualValues(t, 8, record.NumRows())
	for i := range 8 {
		assert.Equal(t, "stony-beck/raceway-1/oxygen", record.Column(0).(*array.String).Value(i))
		assert.Equal(t, want.Starts[i].UnixNano(), int64(record.Column(1).(*array.Timestamp).Value(i)))
		mean := want.Series[0].Values["mean"][i]
		assert.Equal(t, math.IsNaN(mean), record.Column(4).IsNull(i))
		if !math.IsNaN(mean) {
			assert.Equal(t, mean, record.Column(4).(*array.Float64).Value(i))
			assert.Equal(t, want.Series[0].Times["max_at"][i].UnixNano(),
				int64(record.Column(6).(*array.Timestamp).Value(i)))
		}
		assert.Equal(t, want.Series[0].Empty[i], record.Column(8).(*array.Boolean).Value(i))
	}
	assert.False(t, stream.Next())
	require.NoError(t, stream.Err())

	body.Reset()
	require.NoError(t, c.ReadingsAs(t.Context(), client.ReadingsQuery{
		Select: "#",
		From:   begin,
		To:     begin.Add(time.Hour),
	}, "arrow", &body))
	readings, err := ipc.NewReader(&body)
	require.NoError(t, err)
	defer readings.Release()
	sum := 0.0
	for readings.Next() {
		for _, v := range readings.RecordBatch().Column(2).(*array.Float64).Values() {
			sum += v
		}
	}
	assert.EqualValues(t, 59*30, sum)
}

func names(n int, of func(int) string) (out []string) {
	for i := range n {
		out = append(out, of(i))
	}
	return out
}

// The form can also be asked for as HTTP has it.
func TestTheHeaderAcceptChoosesTheForm(t *testing.T) {
	s := serve(t)
	for accept, want := range map[string]string{
		"text/csv":                            "text/csv; charset=utf-8",
		"application/vnd.apache.arrow.stream": "application/vnd.apache.arrow.stream",
		"*/*":                                 "application/json; charset=utf-8",
	} {
		req, err := http.NewRequest(http.MethodGet,
			s.Address+"/api/v1/windows?select=%23&width=15m&from=2026-03-01&to=2026-03-02", nil)
		require.NoError(t, err)
		req.Header.Set("Accept", accept)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, want, resp.Header.Get("Content-Type"))
	}
}

func TestWideHasARowForEachWindow(t *testing.T) {
	c := client.New(serve(t).Address)
	q := hour
	q.To, q.Zone, q.Shift = begin.Add(2*time.Hour), "Europe/Lisbon", "1h"
	want, err := c.Windows(t.Context(), q)
	require.NoError(t, err)
	var body bytes.Buffer
	require.NoError(t, c.WindowsAs(t.Context(), q, "wide", &body))
	rows, err := csv.NewReader(&body).ReadAll()
	require.NoError(t, err)
	const oxygen = "stony-beck/raceway-1/oxygen "
	assert.Equal(t, []string{
		"start Europe/Lisbon", "start UTC", oxygen + "mean (mg/l)", oxygen + "sd (mg/l)", oxygen + "max_at",
		oxygen + "mean 1h earlier (mg/l)", oxygen + "sd 1h earlier (mg/l)", oxygen + "max_at 1h earlier",
	}, rows[0])
	require.Len(t, rows, 1+len(want.Starts))
	for i, row := range rows[1:] {
		assert.Equal(t, want.Starts[i].Format("2006-01-02 15:04:05"), row[0], "Lisbon has UTC in winter")
		assert.Equal(t, want.Starts[i].Format(time.RFC3339), row[1])
		for k, s := range want.Series {
			for n, stat := range []string{"mean", "sd"} {
				text := ""
				if v := s.Values[stat][i]; !math.IsNaN(v) {
					text = string(client.AppendNumber(nil, v))
				}
				assert.Equal(t, text, row[2+3*k+n])
			}
		}
	}

	body.Reset()
	assert.ErrorContains(t, c.WindowsAs(t.Context(), client.WindowsQuery{Select: []string{"no/such"}}, "wide", &body),
		"no series")
	assert.ErrorContains(t, c.ReadingsAs(t.Context(), client.ReadingsQuery{Select: "#", From: begin}, "wide", &body),
		"not known; use one of [json csv arrow]")
}

func TestLongAnswersAreCompressedForWhoTakesThem(t *testing.T) {
	s := serve(t)
	plain := http.Client{Transport: &http.Transport{DisableCompression: true}} // says itself what it takes
	get := func(path, takes string) (*http.Response, []byte) {
		ask, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.Address+path, nil)
		require.NoError(t, err)
		if takes != "" {
			ask.Header.Set("Accept-Encoding", takes)
		}
		resp, err := plain.Do(ask)
		require.NoError(t, err)
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp, text
	}
	for _, path := range []string{
		"/api/v1/readings?select=%23&from=2026-03-01&to=2026-03-02", "/api/openapi.yaml",
		"/api/v1/readings?select=%23&from=2026-03-01&to=2026-03-02&format=csv",
	} {
		_, want := get(path, "")
		require.Greater(t, len(want), 2048, path)
		resp, text := get(path, "gzip")
		require.Equal(t, "gzip", resp.Header.Get("Content-Encoding"), path)
		unzip, err := gzip.NewReader(bytes.NewReader(text))
		require.NoError(t, err)
		got, err := io.ReadAll(unzip)
		require.NoError(t, err)
		assert.Equal(t, want, got, path)
		assert.Less(t, len(text), len(want)/2, path)
		resp, text = get(path, "gzip, zstd")
		require.Equal(t, "zstd", resp.Header.Get("Content-Encoding"), path)
		frames, err := zstd.NewReader(bytes.NewReader(text))
		require.NoError(t, err)
		got, err = io.ReadAll(frames)
		require.NoError(t, err)
		assert.Equal(t, want, got, path)
	}
	resp, _ := get("/api/v1/health", "gzip")
	assert.Empty(t, resp.Header.Get("Content-Encoding"), "a short one is not worth it")
}

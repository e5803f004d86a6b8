package api_test

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
)

func TestTheStreamTellsAllThenWhatChanged(t *testing.T) {
	s := serve(t)
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	events := 0
	err := client.New(s.Address).Stream(ctx, "", func(now client.Now) error {
		events++
		if events == 1 {
			assert.EqualValues(t, 59, now.Values[0].Value)
			rows := column.New(1, 1)
			rows.Add(begin.Add(time.Hour).UnixNano(), 60)
			return s.Store.Append(t.Context(),
				engine.Batch{Entries: []engine.Entry{{Series: 1, Tier: series.Readings, Rows: rows}}})
		}
		assert.Len(t, now.Values, 1)
		assert.EqualValues(t, 60, now.Values[0].Value)
		return io.EOF
	})
	assert.ErrorIs(t, err, io.EOF)
}

func TestTheStreamTellsOfACorrectionToo(t *testing.T) {
	s := serve(t)
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	events := 0
	err := client.New(s.Address).Stream(ctx, "", func(now client.Now) error {
		if events++; events == 1 {
			rows := column.New(1, 1) // of the same time as the latest
			rows.Add(begin.Add(59*time.Minute).UnixNano(), 7)
			return s.Store.Append(t.Context(),
				engine.Batch{Entries: []engine.Entry{{Series: 1, Tier: series.Readings, Rows: rows}}})
		}
		assert.EqualValues(t, 7, now.Values[0].Value)
		return io.EOF
	})
	assert.ErrorIs(t, err, io.EOF)
}

func TestABriefStreamHasOnlyWhatChanges(t *testing.T) {
	s := serve(t)
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	ask, err := http.NewRequestWithContext(ctx, http.MethodGet, s.Address+"/api/v1/stream?brief=true", nil)
	require.NoError(t, err)
	resp, err := http.DefaultClient.Do(ask)
	require.NoError(t, err)
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	var said client.Brief
	for lines.Scan() {
		if data, ok := strings.CutPrefix(lines.Text(), "data:"); ok {
			strict := json.NewDecoder(strings.NewReader(data))
			strict.DisallowUnknownFields()
			require.NoError(t, strict.Decode(&said))
			break
		}
	}
	require.NotEmpty(t, said.Values)
	now, err := client.New(s.Address).Now(t.Context(), "")
	require.NoError(t, err)
	require.Len(t, said.Values, len(now.Values))
	for i, v := range now.Values {
		brief := said.Values[i]
		assert.Equal(t, client.BriefValue{
			Path:     v.Path,
			Unit:     v.Unit,
			Time:     v.Time,
			Value:    v.Value,
			State:    v.State,
			Standing: brief.Standing,
		}, brief)
		assert.Equal(t, v.Standing, cmp.Or(brief.Standing, "normal"))
	}
	status, text := newContract(t, s.Address).get("/api/v1/stream?brief=perhaps")
	assert.Equal(t, http.StatusBadRequest, status)
	assert.Contains(t, text, "write true or false")
}

package api

import (
	"errors"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/config"
	"nexocumula/internal/core/window"
	"nexocumula/internal/query"
)

// broken answers every call with two series, and then with what went wrong.
func broken(t *testing.T) *httptest.Server {
	router := gin.New()
	router.GET("/api/v1/windows", func(c *gin.Context) {
		stats, err := window.ParseStats("mean")
		require.NoError(t, err)
		asked := query.Windows{Grid: window.Grid{Zone: time.UTC}}
		turns := newTurns()
		turns <- struct{}{}
		to := newBuffered(c.Writer, turns)
		var out interface {
			answer
			query.Sink
		} = &windowsJSON{to: to, query: asked}
		switch c.Query("format") {
		case "csv":
			out = newTable(asked, newCSV(to))
		case "arrow":
			out = newTable(asked, newArrow(to))
		}
		assert.NoError(t, out.Head(query.Head{Windows: make([]window.Window, 2), Stats: stats}))
		for _, name := range []string{"a/b", "a/c"} {
			assert.NoError(t, out.Series(query.SeriesRows{
				Name: name, Stats: []string{"mean"},
				Rows: window.Rows{Stats: [][]float64{{1, 2}}, Empty: make([]bool, 2), Filled: make([]bool, 2), Whole: []float64{1.5}},
			}))
		}
		handlers{Service: Service{Log: slog.New(slog.DiscardHandler)}}.complete(c, out, errors.New("the disk is gone"))
	})
	server := httptest.NewServer(WithDeadlines(time.Minute, router))
	t.Cleanup(server.Close)
	return server
}

func TestAnAnswerThatBreaksOffIsSeenToByEveryClient(t *testing.T) {
	server := broken(t)
	for _, form := range []string{"json", "csv", "arrow"} {
		resp, err := http.Get(server.URL + "/api/v1/windows?format=" + form)
		require.NoError(t, err)
		assert.Equal(t, 200, resp.StatusCode)
		text, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		assert.ErrorIs(t, err, io.ErrUnexpectedEOF, "%s: %q", form, text)
		if form != "json" {
			assert.Error(t, client.New(server.URL).WindowsAs(t.Context(), client.WindowsQuery{}, form, io.Discard))
		}
	}
	got, err := client.New(server.URL).Windows(t.Context(), client.WindowsQuery{})
	assert.ErrorContains(t, err, "the disk is gone")
	require.Len(t, got.Series, 2, "what came is right")
	assert.EqualValues(t, []float64{1, 2}, got.Series[1].Values["mean"])
}

func TestAQueryWaitsForItsTurnAndNotForEver(t *testing.T) {
	h := handlers{Service: Service{Queries: func() config.Queries { return config.Queries{MaxTime: time.Millisecond} }}, turns: make(turns, 1)}
	gin.SetMode(gin.ReleaseMode)
	router := gin.New()
	router.GET("/", h.inTurn(func(c *gin.Context) { c.Status(http.StatusNoContent) }))
	ask := func() *httptest.ResponseRecorder {
		out := httptest.NewRecorder()
		router.ServeHTTP(out, httptest.NewRequest(http.MethodGet, "/", nil))
		return out
	}
	assert.Equal(t, http.StatusNoContent, ask().Code)
	h.turns <- struct{}{}
	busy := ask()
	assert.Equal(t, http.StatusServiceUnavailable, busy.Code)
	assert.Contains(t, busy.Body.String(), "other queries have kept the service busy")
	reader, writer := io.Pipe() // a client that does not read
	written := make(chan error, 1)
	go func() {
		_, err := unhurried{writer, h.turns}.Write([]byte("x"))
		written <- err
	}()
	for !h.turns.enter(t.Context(), time.Minute) { // its turn is free meanwhile
		t.Fatal("the turn was kept")
	}
	h.turns.leave()
	_, err := reader.Read(make([]byte, 1))
	require.NoError(t, err)
	require.NoError(t, <-written)
	assert.Len(t, h.turns, 1, "and is taken again")
}

package api

import (
	"context"
	"errors"
	"fmt"
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
		turns.enter(c, "somebody", 1)
		to := newBuffered(c.Writer, turns, "somebody")
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
	h := handlers{Service: Service{Queries: func() config.Queries { return config.Queries{MaxTime: time.Millisecond} }}, turns: newTurns()}
	h.turns.free = 1
	gin.SetMode(gin.ReleaseMode)
	router := gin.New()
	router.GET("/", h.inTurn(func(c *gin.Context) { c.Status(http.StatusNoContent) }))
	ask := func() *httptest.ResponseRecorder {
		out := httptest.NewRecorder()
		router.ServeHTTP(out, httptest.NewRequest(http.MethodGet, "/", nil))
		return out
	}
	assert.Equal(t, http.StatusNoContent, ask().Code)
	require.Equal(t, entered, h.turns.enter(t.Context(), "somebody", 1))
	busy := ask()
	assert.Equal(t, http.StatusServiceUnavailable, busy.Code)
	assert.Contains(t, busy.Body.String(), "other queries have kept the service busy")
	reader, writer := io.Pipe() // a client that does not read
	written := make(chan error, 1)
	go func() {
		_, err := unhurried{writer, h.turns, "somebody"}.Write([]byte("x"))
		written <- err
	}()
	require.Equal(t, entered, h.turns.enter(t.Context(), "another", 1), "its turn is free meanwhile")
	h.turns.leave()
	_, err := reader.Read(make([]byte, 1))
	require.NoError(t, err)
	require.NoError(t, <-written)
	assert.Zero(t, h.turns.free, "and is taken again")
}

func TestCallersTakeTurnsHoweverMuchOneAsks(t *testing.T) {
	turns := newTurns()
	turns.free = 1
	require.Equal(t, entered, turns.enter(t.Context(), "greedy", 3))
	order := make(chan string, 10)
	wait := func(who string, waits int) {
		go func() {
			if turns.enter(t.Context(), who, 3) == entered {
				order <- who
				turns.leave()
			}
		}()
		require.Eventually(t, func() bool {
			turns.mu.Lock()
			defer turns.mu.Unlock()
			return len(turns.waiting[who]) == waits
		}, time.Minute, time.Millisecond)
	}
	for i := range 3 {
		wait("greedy", i+1)
	}
	wait("modest", 1)
	assert.Equal(t, tooMany, turns.enter(t.Context(), "greedy", 3))
	gone, leave := context.WithCancel(t.Context())
	leave()
	assert.Equal(t, tooLate, turns.enter(gone, "hasty", 3))
	turns.leave()
	assert.Equal(t, []string{"greedy", "modest", "greedy", "greedy"}, []string{<-order, <-order, <-order, <-order})
	require.Eventually(t, func() bool {
		turns.mu.Lock()
		defer turns.mu.Unlock()
		return turns.free == 1 && len(turns.next) == 0 && len(turns.waiting) == 0
	}, time.Minute, time.Millisecond)
}

func TestOneCallerCannotTakeAllStreams(t *testing.T) {
	var q quota
	for range mostStreamsOfOne {
		require.Empty(t, q.take("greedy"))
	}
	assert.Contains(t, q.take("greedy"), "as one caller may")
	assert.Empty(t, q.take("modest"))
	q.give("greedy")
	assert.Empty(t, q.take("greedy"))
	for i := range maxStreams - mostStreamsOfOne - 1 {
		require.Empty(t, q.take(fmt.Sprint(i)))
	}
	assert.Contains(t, q.take("late"), "too many live streams are open")
}

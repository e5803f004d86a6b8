package api

import (
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/config"
	"nexocumula/internal/core/window"
	"nexocumula/internal/query"
	"nexocumula/internal/turns"
)

// broken answers every call with two series, and then with what went wrong.
func broken(t *testing.T) *httptest.Server {
	router := gin.New()
	router.GET("/api/v1/windows", func(c *gin.Context) {
		stats, err := window.ParseStats("mean")
		require.NoError(t, err)
		asked := query.Windows{Grid: window.Grid{Zone: time.UTC}}
		turn, _ := turns.New(1, 0).Enter(c, "somebody", 1)
		to := newBuffered(c.Writer, turn)
		var out interface {
			answer
			query.Sink
		} = &windowsJSON{to: to, query: asked}
		switch c.Query("format") {
		case "csv":
			out = newTable(asked, newCSV(to, nil))
		case "arrow":
			out = newTable(asked, newArrow(to))
		}
		assert.NoError(t, out.Head(query.Head{Windows: make([]window.Window, 2), Stats: stats}))
		for _, name := range []string{"a/b", "a/c"} {
			assert.NoError(t, out.Series(query.SeriesRows{
				Name: name, Stats: []string{"mean"},
				Rows: window.Rows{
					Stats:  [][]float64{{1, 2}},
					Empty:  make([]bool, 2),
					Filled: make([]bool, 2),
					Whole:  []float64{1.5},
				},
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
	h := handlers{
		Service: Service{Queries: func() config.Queries { return config.Queries{MaxTime: time.Millisecond} }},
		turns:   turns.New(1, 0),
	}
	gin.SetMode(gin.ReleaseMode)
	router := gin.New()
	router.GET("/", h.inTurn(func(c *gin.Context) { c.Status(http.StatusNoContent) }))
	ask := func() *httptest.ResponseRecorder {
		out := httptest.NewRecorder()
		router.ServeHTTP(out, httptest.NewRequest(http.MethodGet, "/", nil))
		return out
	}
	assert.Equal(t, http.StatusNoContent, ask().Code)
	_, outcome := h.turns.Enter(t.Context(), "somebody", 1)
	require.Equal(t, turns.Entered, outcome)
	busy := ask()
	assert.Equal(t, http.StatusServiceUnavailable, busy.Code)
	assert.Contains(t, busy.Body.String(), "other queries have kept the service busy")
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

func TestATableHasTheBoundsOfEverySeries(t *testing.T) {
	stats, err := window.ParseStats("above:10")
	require.NoError(t, err)
	asked := query.Windows{Across: &query.Across{}, Grid: window.Grid{Zone: time.UTC}}
	exact := query.SeriesRows{
		Name:  "a",
		Stats: []string{"above:10"},
		Rows:  window.Rows{Stats: [][]float64{{60, 30}}, Empty: make([]bool, 2), Filled: make([]bool, 2)},
	}
	between := exact
	between.Name = "b"
	between.Rows.Stats = [][]float64{{math.NaN(), 20}}
	between.Least, between.Most = [][]float64{{10, 20}}, [][]float64{{40, 20}}
	for form, make := range map[string]func(*buffered) rows{
		"csv":  func(to *buffered) rows { return newCSV(to, nil) },
		"wide": func(to *buffered) rows { return newWide(to, asked) },
	} {
		got := httptest.NewRecorder()
		c, _ := gin.CreateTestContext(got)
		turn, _ := turns.New(1, 0).Enter(t.Context(), "somebody", 1)
		out := newTable(asked, make(newBuffered(c.Writer, turn)))
		require.NoError(t, out.Head(query.Head{
			Windows: []window.Window{
				{Span: window.Span{From: 0, To: 60e9}}, {Span: window.Span{From: 60e9, To: 120e9}},
			},
			Stats: stats,
		}))
		require.NoError(t, out.Series(exact))
		require.NoError(t, out.Series(between))
		require.NoError(t, out.end(nil))
		lines := strings.Split(strings.TrimSpace(got.Body.String()), "\n")
		if form == "csv" {
			require.Len(t, lines, 5)
			assert.Contains(t, lines[0], "place,above:10,above:10 least,above:10 most,unit")
			assert.Contains(t, lines[1], ",60,60,60,", "the bounds of an exact number are the number")
			assert.Contains(t, lines[3], ",,10,40,")
		} else {
			require.Len(t, lines, 3)
			assert.Contains(t, lines[0],
				"a above:10,a above:10 least,a above:10 most,b above:10,b above:10 least,b above:10 most")
			assert.Contains(t, lines[1], ",60,60,60,,10,40")
		}
	}
}

package api

import (
	"encoding/json"
	"errors"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/core/window"
	"nexocumula/internal/query"
)

func TestAnAnswerThatBreaksOffSaysWhyAndIsStillJSON(t *testing.T) {
	recorder := httptest.NewRecorder()
	c, _ := gin.CreateTestContext(recorder)
	w := &windowsWriter{to: c.Writer, query: query.Windows{Grid: window.Grid{Zone: time.UTC}}}
	stats, err := window.ParseStats("mean")
	require.NoError(t, err)
	require.NoError(t, w.Head(query.Head{Windows: make([]window.Window, 2), Stats: stats}))
	for _, name := range []string{"a/b", "a/c"} {
		require.NoError(t, w.Series(query.SeriesRows{
			Name: name, Stats: []string{"mean"}, Times: make([][]int64, 1), WholeTimes: make([]int64, 1),
			Rows: window.Rows{Stats: [][]float64{{1, 2}}, Empty: make([]bool, 2), Filled: make([]bool, 2), Whole: []float64{1.5}},
		}))
	}
	require.NoError(t, w.end(errorOf(errors.New("the disk is gone"))))
	var got client.Windows
	require.NoError(t, json.Unmarshal(recorder.Body.Bytes(), &got))
	assert.Equal(t, 200, recorder.Code)
	require.Len(t, got.Series, 2)
	assert.EqualValues(t, []float64{1, 2}, got.Series[1].Values["mean"])
	assert.Equal(t, "the disk is gone", got.Error.Message)
}

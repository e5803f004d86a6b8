package api_test

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/core/series"
)

func TestSeriesAreListedPageByPage(t *testing.T) {
	s := serve(t)
	var defs []series.Definition
	for i := range 5200 {
		defs = append(defs, series.Definition{
			Path:     series.Path(fmt.Sprintf("stony-beck/many/q%05d", i)),
			Kind:     series.Gauge,
			FreshFor: 60e9,
		})
	}
	_, err := s.Store.Define(t.Context(), defs)
	require.NoError(t, err)
	cl, c := client.New(s.Address), newContract(t, s.Address)
	all, err := cl.Series(t.Context(), "stony-beck/many/+")
	require.NoError(t, err)
	require.Len(t, all.Series, 5200)
	for i, one := range all.Series {
		require.Equal(t, fmt.Sprintf("stony-beck/many/q%05d", i), one.Path)
	}
	_, text := c.get("/api/v1/series?select=stony-beck/many/%2B&limit=2&cursor=stony-beck/many/q00007")
	assert.Contains(t, text, `"next":"stony-beck/many/q00009"`)
	assert.NotContains(t, text, "q00007\",\"kind", "after it")
	_, text = c.get("/api/v1/series?select=stony-beck/many/%2B&cursor=stony-beck/many/q0519")
	assert.Contains(t, text, `"next":null`)
	for _, wrong := range []string{"limit=0", "limit=5001", "limit=x"} {
		status, text := c.get("/api/v1/now?" + wrong)
		assert.Equal(t, 400, status)
		assert.Contains(t, text, "use 1 to 5000")
	}
}

// Notes are listed part by part too, whichever of them have the same time.
func TestNotesAreListedPartByPart(t *testing.T) {
	s := serve(t)
	c := newContract(t, s.Address)
	at := begin.Add(time.Minute)
	for i := range 7 {
		_, err := client.New(s.Address).AddNote(t.Context(), client.NewNote{
			About: "stony-beck/raceway-1",
			Text:  fmt.Sprint("note ", i),
			At:    new(at.Add(time.Duration(i/3) * time.Second)),
		})
		require.NoError(t, err)
	}
	var said []string
	for cursor := ""; ; {
		_, text := c.get("/api/v1/notes?limit=2&cursor=" + cursor)
		var page client.Notes
		require.NoError(t, json.Unmarshal([]byte(text), &page))
		for _, n := range page.Notes {
			said = append(said, n.Text)
		}
		if page.Next == nil {
			break
		}
		cursor = *page.Next
	}
	assert.Equal(t, []string{"note 6", "note 5", "note 4", "note 3", "note 2", "note 1", "note 0"}, said)
	status, text := c.get("/api/v1/notes?cursor=yesterday")
	assert.Equal(t, 400, status)
	assert.Contains(t, text, "give next of the answer before")
	all, err := client.New(s.Address).Notes(t.Context(), "", "")
	require.NoError(t, err)
	assert.Len(t, all.Notes, 7)
}

package client

import (
	"encoding/json"
	"errors"
	"io"
	"math"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// answering returns a client of a server that answers every call the same, and the last
// address it was asked for.
func answering(t *testing.T, status int, body string) (*Client, *string) {
	asked := new(string)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		*asked = r.URL.String()
		w.WriteHeader(status)
		_, _ = io.WriteString(w, body)
	}))
	t.Cleanup(server.Close)
	return New(server.URL + "/"), asked
}

func TestQueriesAreWrittenAsTheDescriptionHasThem(t *testing.T) {
	c, asked := answering(t, 200, `{"stats":[],"series":[]}`)
	from := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	_, err := c.Windows(t.Context(), WindowsQuery{
		Select: []string{"a/+/c"},
		From:   from,
		To:     from.Add(time.Hour),
		Width:  "15m",
		Stats:  []string{"mean", "max"},
		Gaps:   "carry",
	})
	require.NoError(t, err)
	assert.Equal(t,
		"/api/v1/windows?from=2026-03-01T08%3A00%3A00Z&gaps=carry&select=a%2F%2B%2Fc&stats=mean%2Cmax&to=2026-03-01T09%3A00%3A00Z&width=15m",
		*asked)
	_, err = c.Now(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, "/api/v1/now?", *asked)
	_, err = c.Rejects(t.Context(), RejectFilter{Source: "own", Limit: 7})
	require.NoError(t, err)
	assert.Equal(t, "/api/v1/rejects?limit=7&source=own", *asked)
}

func TestARefusalIsAnErrorWithItsCode(t *testing.T) {
	c, _ := answering(t, 404, `{"code":"unknown_series","detail":"no series matches"}`)
	_, err := c.Series(t.Context(), "x/y")
	refused, ok := errors.AsType[*Error](err)
	require.True(t, ok)
	assert.Equal(t, Error{Status: 404, Code: "unknown_series", Message: "no series matches"}, *refused)
}

func TestAnAnswerThatBrokeOffIsAnErrorWithWhatThereIs(t *testing.T) {
	c, asked := answering(t, 200,
		`{"stats":["max_at"],"starts":["2026-03-01T08:00:00Z"],"ends":["2026-03-01T09:00:00Z"],"series":[{"name":"a/b","values":{"mean":[null]},"times":{"max_at":["2026-03-01T08:30:00Z"]}}],"error":{"code":"too_slow","message":"it took too long"}}`)
	answer, err := c.Windows(t.Context(), WindowsQuery{
		Select: []string{"a/+", "b/c"},
		Range:  "this week",
		Zone:   "Europe/Lisbon",
		Labels: []string{"depth=3m"},
		Newest: 3,
		Shift:  "1d",
	})
	refused, ok := errors.AsType[*Error](err)
	require.True(t, ok)
	assert.Equal(t, "it took too long", refused.Message)
	assert.Equal(t, "a/b", answer.Series[0].Name)
	assert.True(t, math.IsNaN(answer.Series[0].Values["mean"][0]))
	assert.Equal(t, 30, answer.Series[0].Times["max_at"][0].Minute())
	assert.Equal(t,
		"/api/v1/windows?label=depth%3D3m&newest=3&range=this+week&select=a%2F%2B&select=b%2Fc&shift=1d&zone=Europe%2FLisbon",
		*asked)
	_, err = c.Moment(t.Context(), "a/b", time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC), "nearest", "")
	require.NoError(t, err)
	assert.Equal(t, "/api/v1/moment?at=2026-03-01T08%3A00%3A00Z&how=nearest&select=a%2Fb", *asked)
}

func TestTimesAreWrittenLikeAList(t *testing.T) {
	when := time.Date(2026, 3, 1, 8, 0, 0, 5000, time.UTC)
	got, err := json.Marshal(Times{&when, nil})
	require.NoError(t, err)
	assert.JSONEq(t, `["2026-03-01T08:00:00.000005Z",null]`, string(got))
	var back Times
	require.NoError(t, json.Unmarshal(got, &back))
	assert.Equal(t, Times{&when, nil}, back)
}

func TestWhatIsNoServiceIsSaidToBeNone(t *testing.T) {
	c, _ := answering(t, 502, "<html>")
	_, err := c.Health(t.Context())
	assert.ErrorContains(t, err, "answered HTTP 502, which no nexocumula service does; is this its address?")
	c, _ = answering(t, 200, "<html>")
	_, err = c.Uplinks(t.Context())
	assert.ErrorContains(t, err, "reading the answer of")
	_, err = New("http://127.0.0.1:1").Health(t.Context())
	assert.ErrorContains(t, err, "asking http://127.0.0.1:1")
	_, err = New("::").Health(t.Context())
	assert.ErrorContains(t, err, `address "::"`)
}

func TestTheStreamIsReadEventByEvent(t *testing.T) {
	c, _ := answering(t, 200,
		": hello\n\nevent:now\ndata:{\"values\":[{\"path\":\"a/b\",\"value\":1}]}\n\nevent:now\ndata:{\"values\":[{\"path\":\"a/b\",\"value\":null}]}\n\n")
	var got []Number
	require.NoError(t, c.Stream(t.Context(), "", func(n Now) error {
		got = append(got, n.Values[0].Value)
		return nil
	}))
	require.Len(t, got, 2)
	assert.EqualValues(t, 1, got[0])
	assert.True(t, math.IsNaN(float64(got[1])))
	c, _ = answering(t, 200, "data:{\n")
	assert.ErrorContains(t, c.Stream(t.Context(), "", nil), "reading the stream")
}

func TestNumbersAreWrittenShortAndExact(t *testing.T) {
	for text, f := range map[string]float64{
		"0": 0, "-99.9": -99.9, "0.1": 0.1, "1e-07": 1e-7, "123456789": 123456789, "1e+21": 1e21, "null": math.NaN(),
	} {
		got, err := json.Marshal(Number(f))
		require.NoError(t, err)
		assert.Equal(t, text, string(got))
		var back Number
		require.NoError(t, json.Unmarshal(got, &back))
		assert.True(t, float64(back) == f || math.IsNaN(f))
	}
	inf, err := json.Marshal(Number(math.Inf(1)))
	require.NoError(t, err)
	assert.Equal(t, "null", string(inf))
	assert.Error(t, json.Unmarshal([]byte(`"x"`), new(Number)))
}

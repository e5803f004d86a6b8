package api_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/api"
	"nexocumula/client"
	"nexocumula/internal/access"
)

// The schema of boards is the description's, in a file of its own that other programs read.
func TestTheSchemaOfBoardsIsThatOfTheDescription(t *testing.T) {
	var doc struct {
		Components struct {
			Schemas map[string]map[string]any `yaml:"schemas"`
		} `yaml:"components"`
	}
	require.NoError(t, yaml.Unmarshal(api.OpenAPI, &doc))
	schema := maps.Clone(doc.Components.Schemas["Board"])
	schema["$schema"], schema["$id"], schema["title"] = "https://json-schema.org/draft/2020-12/schema", "/api/board.schema.json", "Board"
	defs := map[string]any{}
	for _, name := range []string{"BoardRange", "BoardHead", "BoardLane", "BoardCalculation"} {
		defs[name] = doc.Components.Schemas[name]
	}
	schema["$defs"] = defs
	text, err := json.MarshalIndent(schema, "", "  ")
	require.NoError(t, err)
	said := strings.ReplaceAll(string(text), "#/components/schemas/", "#/$defs/") + "\n"
	if os.Getenv("UPDATE_DOCS") != "" {
		require.NoError(t, os.WriteFile("../../api/board.schema.json", []byte(said), 0o644))
		return
	}
	assert.Equal(t, said, string(api.BoardSchema),
		"UPDATE_DOCS=1 go test ./internal/api -run TheSchemaOfBoards writes it anew")
}

func night() client.Board {
	return client.Board{
		Form: client.BoardForm, Title: "Night at the raceways", Range: &client.BoardRange{Calendar: "yesterday"}, Hours: "22:00-06:00", Compare: "1d",
		Head: []client.BoardHead{{Series: "stony-beck/raceway-1/oxygen", Gauge: true}},
		Lanes: []client.BoardLane{
			{Kind: "chart", Series: []string{"stony-beck/+/oxygen"}, Draw: "steps", Height: 200},
			{
				Kind: "chart",
				Calculate: &client.BoardCalculation{
					Name:    "half",
					Formula: "o/2",
					Inputs:  map[string]string{"o": "stony-beck/raceway-1/oxygen@min"},
					Unit:    "mg/l",
				},
			},
			{Kind: "text", Text: "See [the manual](/help)."},
		},
	}
}

func TestABoardIsSavedWithItsHistory(t *testing.T) {
	s := serve(t)
	c := newContract(t, s.Address)
	send := func(method, path string, body any, version ...string) (int, string) {
		text, err := json.Marshal(body)
		require.NoError(t, err)
		header := http.Header{"Content-Type": {"application/json"}}
		if len(version) > 0 {
			header["If-Match"] = version
		}
		return c.call(method, path, text, header)
	}
	b := night()
	status, text := send("POST", "/api/v1/boards", b)
	require.Equal(t, 201, status, text)
	resp, err := http.Get(s.Address + "/api/v1/boards/1")
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, `"1"`, resp.Header.Get("ETag"))
	b.Title = "Nights"
	status, text = send("PUT", "/api/v1/boards/1", b, `"1"`)
	require.Equal(t, 200, status, text)
	status, text = send("PUT", "/api/v1/boards/1", b, `"1"`)
	assert.Equal(t, 412, status, "somebody else saved it meanwhile")
	assert.Contains(t, text, "saved version 2 of it")
	status, text = send("PUT", "/api/v1/boards/1", b, "3")
	assert.Equal(t, 400, status, text)
	for path, says := range map[string]string{
		"/api/v1/boards/1":                                   `"title":"Nights"`,
		"/api/v1/boards/1?version=1":                         `"title":"Night at the raceways"`,
		"/api/v1/boards/1/history":                           `"version":1`,
		"/api/v1/boards?text=NIGHT":                          `"id":1`,
		"/api/v1/boards?text=raceway":                        `"about":"stony-beck/raceway-1"`,
		"/api/v1/boards/standard?about=stony-beck/raceway-1": `"standard":true`,
	} {
		status, text := c.call("GET", path, nil, nil)
		assert.Equal(t, 200, status, path)
		assert.Contains(t, text, says, path)
	}
	status, _ = c.call("DELETE", "/api/v1/boards/1", nil, nil)
	assert.Equal(t, 200, status)
	_, text = c.call("GET", "/api/v1/boards", nil, nil)
	assert.NotContains(t, text, "Nights")
	_, text = c.call("GET", "/api/v1/boards?removed=true", nil, nil)
	assert.Contains(t, text, "Nights")
	status, text = send("PUT", "/api/v1/boards/1", b, `"3"`)
	assert.Equal(t, 200, status, "what was taken away can come back: %s", text)
	_, text = c.call("GET", "/api/v1/boards", nil, nil)
	assert.Contains(t, text, "Nights")
}

func TestABoardThatIsNoneIsRefused(t *testing.T) {
	s := serve(t)
	c := newContract(t, s.Address)
	for body, says := range map[string]string{
		`{`:           "the body is not",
		`{}`:          "form:",
		`{"wings":2}`: "wings",
		`{"form":"nexocumula-board-1","title":"x","lanes":[{"kind":"chart","series":["{site}/#"]}]}`: "needs a place",
	} {
		status, text := c.call("POST", "/api/v1/boards", []byte(body),
			http.Header{"Content-Type": {"application/json"}})
		assert.Equal(t, 400, status, body)
		assert.Contains(t, text, says, body)
	}
	for path, status := range map[string]int{
		"/api/v1/boards/x": 400, "/api/v1/boards/7": 404, "/api/v1/boards/7?version=0": 400, "/api/v1/boards/standard?about=nowhere": 404, "/api/v1/boards?removed=perhaps": 400, "/api/v1/boards/7/history": 404,
	} {
		found, _ := c.call("GET", path, nil, nil)
		assert.Equal(t, status, found, path)
	}
}

// What a board names is for those who may see it.
func TestABoardIsForThoseWhoMaySeeWhatItNames(t *testing.T) {
	s, admin := guarded(t, bothConfig)
	names := func(c *client.Client) (out []string) {
		all, err := c.Boards(t.Context(), "")
		require.NoError(t, err)
		for _, b := range all.Boards {
			out = append(out, b.Title)
		}
		slices.Sort(out)
		return out
	}
	_, err := admin.AddBoard(t.Context(), night())
	require.NoError(t, err)
	far := night()
	far.Title, far.Lanes[0].Series = "Far", []string{"long-mere/#"}
	_, err = admin.AddBoard(t.Context(), far)
	require.NoError(t, err)
	limited := client.New(s.Address).With(bearerOf(t, s, admin, "keeper", string(access.Operator), "stony-beck/#"))
	assert.Equal(t, []string{"Night at the raceways", "stony-beck", "stony-beck, raceway-1"}, names(limited))
	assert.Contains(t, names(admin), "Far")
	_, err = limited.Board(t.Context(), 2, 0)
	assert.ErrorContains(t, err, "there is no board 2")
	_, err = limited.AddBoard(t.Context(), far)
	assert.ErrorContains(t, err, "not yours to see")
	_, err = limited.ChangeBoard(t.Context(), 2, 1, night())
	assert.Error(t, err)
	_, err = limited.StandardBoard(t.Context(), "long-mere")
	assert.ErrorContains(t, err, "there is no site or station")
	// A version from when it named more is not for him either.
	near := far
	near.Title, near.Lanes = "Near now", nil
	_, err = admin.ChangeBoard(t.Context(), 2, 1, near)
	require.NoError(t, err)
	history, err := limited.BoardHistory(t.Context(), 2)
	require.NoError(t, err)
	require.Len(t, history.Boards, 1)
	assert.Equal(t, "Near now", history.Boards[0].Title)
	_, err = limited.Board(t.Context(), 2, 1)
	assert.ErrorContains(t, err, "there is no version 1")
	viewer := client.New(s.Address).With(bearerOf(t, s, admin, "guest", string(access.Viewer)))
	_, err = viewer.AddBoard(t.Context(), night())
	assert.Error(t, err, "who only looks does not change boards")
}

func TestUnitsAreWrittenAsPeopleDo(t *testing.T) {
	s := serve(t)
	found, err := client.New(s.Address).Units(t.Context())
	require.NoError(t, err)
	require.NotEmpty(t, found.Units)
	var said []string
	for _, to := range found.Units[0].To {
		said = append(said, fmt.Sprintf("%s %g", to.Written, to.Scale))
	}
	assert.Equal(t, "mg/l", found.Units[0].Written)
	assert.Contains(t, said, "kg/m³ 0.001")
	history, err := client.New(s.Address).LinkHistory(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, []string{"source own", "source scripts", "to head-office"}, func() (out []string) {
		for _, l := range history.Links {
			out = append(out, l.Link)
		}
		return out
	}())
}

package api_test

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/api"
	"nexocumula/internal/manual"
)

// Whatever is refused below /api is told as problem details, also what there is not; the console's page is for people.
func TestARefusalIsAProblem(t *testing.T) {
	s := serve(t)
	for path, want := range map[string]int{
		"/api/v1/windows?select=nowhere/x/y": 404, "/api/v1/nothing": 404, "/api/": 404, "/api/v2/series": 404,
		"/api/v1/series?color=red": 400,
	} {
		resp, err := http.Get(s.Address + path)
		require.NoError(t, err)
		text, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, want, resp.StatusCode, path)
		assert.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"), path)
		assert.Regexp(t, `^\{"title":"[A-Z][^"]+","status":\d+,"detail":".+","code":"([a-z_]+)","type":"/docs/refusals#[a-z_]+"\}$`, string(text), path)
		assert.Empty(t, resp.Header.Get("Access-Control-Allow-Origin"), path)
	}
}

// The description has every code that the service may answer with, and no operation without a name, a group and the role
// it needs.
func TestTheDescriptionHasEveryCode(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromData(api.OpenAPI)
	require.NoError(t, err)
	described := map[string]bool{}
	for _, code := range doc.Components.Schemas["Code"].Value.Enum {
		described[code.(string)] = true
	}
	says := regexp.MustCompile(`(?:\bfail\(c,\s*[\w.]+,|\bwrong\(|\brefuse\(|turnAway\(c,[^"]*"[a-z.]+",\s*[\w.]+,|turnAway\(c,\s*\w+,\s*\w+,\s*[\w.]+,)\s*"([a-z_]+)"`)
	seen := 0
	for _, room := range []string{".", "../access", "../query"} {
		files, err := filepath.Glob(filepath.Join(room, "*.go"))
		require.NoError(t, err)
		for _, file := range files {
			if strings.HasSuffix(file, "_test.go") {
				continue
			}
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			for _, m := range says.FindAllStringSubmatch(string(text), -1) {
				seen++
				assert.True(t, described[m[1]], "%s: the description has no code %q", file, m[1])
			}
		}
	}
	assert.Greater(t, seen, 150)
	page, err := manual.Find("refusals")
	require.NoError(t, err)
	for code := range described {
		assert.Contains(t, page.HTML, `<tr id="`+code+`">`, "the manual says what it means")
	}
	assert.Equal(t, len(described), strings.Count(page.HTML, `<tr id="`), "and explains no other")
	named := map[string]bool{}
	for path, item := range doc.Paths.Map() {
		for method, operation := range item.Operations() {
			assert.Regexp(t, `^[a-z]+[A-Z]`, operation.OperationID, "%s %s is called by a verb and a noun", method, path)
			assert.False(t, named[operation.OperationID], operation.OperationID)
			named[operation.OperationID] = true
			assert.Len(t, operation.Tags, 1, "%s %s", method, path)
			assert.Regexp(t, `^For (anyone|the role|a sender|a gateway)`, operation.Description, "%s %s", method, path)
		}
	}
}

// Each call has an example of what it takes and answers, and the examples are as the description has it. What a browser
// makes by itself, and what goes on without an end, has none.
func TestEveryCallHasAnExample(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromData(api.OpenAPI)
	require.NoError(t, err)
	without := regexp.MustCompile(`(?i)passkey|^(pushReadings|getBoardSchema)$`)
	examples := 0
	for path, item := range doc.Paths.Map() {
		for method, operation := range item.Operations() {
			contents := map[string]openapi3.Content{}
			if operation.RequestBody != nil {
				contents["request"] = operation.RequestBody.Value.Content
			}
			for status, response := range operation.Responses.Map() {
				if strings.HasPrefix(status, "2") && response.Value != nil {
					contents[status] = response.Value.Content
				}
			}
			for where, content := range contents {
				media := content["application/json"]
				if media == nil || without.MatchString(operation.OperationID) {
					continue
				}
				if assert.NotNil(t, media.Example, "%s %s, %s", method, path, where) {
					examples++
					assert.NoError(t, media.Schema.Value.VisitJSON(media.Example), "%s %s, %s", method, path, where)
				}
			}
		}
	}
	assert.Greater(t, examples, 60)
}

package api_test

import (
	"io"
	"net/http"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	apiserver "nexocumula/internal/api"
)

func TestMetricsAreThoseOfTheManual(t *testing.T) {
	s := serve(t)
	request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.Address+"/metrics", nil)
	require.NoError(t, err)
	request.Header.Set("Accept", "application/openmetrics-text; version=1.0.0")
	answer, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	answer.Body.Close()
	require.Equal(t, http.StatusOK, answer.StatusCode)
	assert.Contains(t, answer.Header.Get("Content-Type"), "application/openmetrics-text; version=1.0.0")
	assert.True(t, strings.HasSuffix(string(text), "# EOF\n"), "it is whole")
	for _, line := range []string{
		`nexocumula_about{site="stony-beck",version="test"} 1.0`, "nexocumula_ready 1.0", "nexocumula_series 1.0", `nexocumula_source_messages_total{source="own"} 0.0`,
	} {
		assert.Contains(t, string(text), line+"\n")
	}
	assert.Regexp(t, `nexocumula_commit_seconds_count [1-9]`, string(text))

	// The older form is read by a library; every name is in the manual, and no other.
	answer, err = http.Get(s.Address + "/metrics")
	require.NoError(t, err)
	parser := expfmt.NewTextParser(model.LegacyValidation)
	families, err := parser.TextToMetricFamilies(answer.Body)
	answer.Body.Close()
	require.NoError(t, err)
	page, err := os.ReadFile("../../docs/operating.md")
	require.NoError(t, err)
	listed := map[string]bool{}
	for _, m := range regexp.MustCompile("(?m)^\\| `(nexocumula_[a-z_]+)` \\|").FindAllStringSubmatch(string(page), -1) {
		listed[m[1]] = true
	}
	for _, name := range apiserver.MetricNames() {
		assert.True(t, listed[name], "the manual says what %s is", name)
		delete(listed, name)
	}
	assert.Empty(t, listed, "the manual has metrics that there are not")
	for name := range families {
		assert.Regexp(t, "^(nexocumula|process)_", name)
	}
	assert.Equal(t, 1.0, families["nexocumula_ready"].GetMetric()[0].GetGauge().GetValue())
}

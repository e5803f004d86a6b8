package window

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The list of stats is the only one: what people read elsewhere names the same.
func TestEveryStatIsNamedWhereStatsAre(t *testing.T) {
	description, err := os.ReadFile("../../../api/openapi.yaml")
	require.NoError(t, err)
	assert.True(t, strings.Contains(string(description), "of: "+Names()+`"`),
		"api/openapi.yaml: say of the parameter stats: Comma-separated, of: %s", Names())
	line := "enum: [" + strings.Join(LineNames(), ", ") + "]"
	assert.True(t, strings.Contains(string(description), line), "api/openapi.yaml: say of the schema LineStat: %s",
		line)
	engine, err := os.ReadFile("../../../docs/engine.md")
	require.NoError(t, err)
	var table []string
	for line := range strings.Lines(string(engine)) {
		if strings.HasPrefix(line, "| `") {
			table = append(table, strings.Split(line, "|")[1])
		}
	}
	all := strings.Join(table, " ")
	for _, k := range kinds {
		name, _, _ := strings.Cut(k.name, "_")
		if k.takes == nothing || k.takes == perTime {
			name = k.name
		}
		assert.Regexp(t, "`"+name+"[`:]", all, "docs/engine.md does not say what %s is", k.name)
	}
}

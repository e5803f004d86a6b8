package kinds

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	listBegins = "<!-- begin: keys, written by UPDATE_DOCS=1 go test ./internal/kinds -->\n"
	listEnds   = "<!-- end: keys -->\n"
)

// keysInMarkdown returns the key lists as they stand in docs/configuration.md.
func keysInMarkdown() string {
	var out strings.Builder
	for _, list := range KeyLists() {
		fmt.Fprintf(&out, "### %s\n\n%s%s.\n\n| key | default | |\n|---|---|---|\n", list.Name,
			strings.ToUpper(list.Says[:1]), list.Says[1:])
		for _, k := range list.Keys {
			otherwise := k.Default
			if otherwise != "" && otherwise != "required" {
				otherwise = "`" + otherwise + "`"
			}
			fmt.Fprintf(&out, "| `%s` | %s | %s |\n", k.Name, otherwise, strings.NewReplacer("|", `\|`, "<", "&lt;").Replace(k.Says))
		}
		out.WriteString("\n")
	}
	return out.String()
}

func TestEveryKeyIsDocumented(t *testing.T) {
	for _, list := range KeyLists() {
		for _, k := range list.Keys {
			assert.True(t, k.Says != "" || k.Name == "offset" || strings.HasSuffix(k.Name, ".offset"),
				"%s: %s says nothing", list.Name, k.Name)
		}
	}
	const file = "../../docs/configuration.md"
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	before, rest, ok := strings.Cut(string(text), listBegins)
	require.True(t, ok)
	_, after, ok := strings.Cut(rest, listEnds)
	require.True(t, ok)
	wanted := before + listBegins + keysInMarkdown() + listEnds + after
	if os.Getenv("UPDATE_DOCS") != "" {
		require.NoError(t, os.WriteFile(file, []byte(wanted), 0o644))
		text = []byte(wanted)
	}
	assert.True(t, wanted == string(text),
		"docs/configuration.md lists other keys than there are; UPDATE_DOCS=1 writes them anew")
}

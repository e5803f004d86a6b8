package e2e

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Which packages may not import which others, also in tests where always is set.
var apart = []struct {
	from, to string
	but      string
	always   bool
}{
	{from: "internal/core/", to: "nexocumula/", but: "nexocumula/internal/core/"},
	{from: "internal/store/sqlite/", to: "nexocumula/internal/store/"},
	{from: "internal/store/engine/", to: "nexocumula/internal/store/", but: "nexocumula/internal/store/sqlite"},
	{from: "internal/store/records/", to: "nexocumula/internal/store/", but: "nexocumula/internal/store/sqlite"},
	{from: "internal/gateway/", to: "nexocumula/internal/central", always: true},
	{from: "internal/central/", to: "nexocumula/internal/gateway", always: true},
	{from: "internal/query/", to: "nexocumula/internal/api", always: true},
	{from: "internal/api/", to: "nexocumula/internal/store\""}, // the assembled store: it asks by interfaces
	{from: "internal/central/", to: "nexocumula/internal/store\""},
	{from: "internal/uplink/", to: "nexocumula/internal/store\""},
	{from: "internal/links/", to: "nexocumula/internal/store\""},
	{from: "internal/query/", to: "nexocumula/internal/store\""},
}

func TestPackagesThatAreApartStayApart(t *testing.T) {
	root := filepath.Join(sourceDir(), "..", "..")
	files := token.NewFileSet()
	seen := map[string]bool{}
	require.NoError(t, filepath.WalkDir(filepath.Join(root, "internal"), func(path string, _ fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(path) != ".go" {
			return err
		}
		file, err := parser.ParseFile(files, path, nil, parser.ImportsOnly)
		require.NoError(t, err)
		name, err := filepath.Rel(root, path)
		require.NoError(t, err)
		for _, one := range file.Imports {
			of, err := strconv.Unquote(one.Path.Value)
			require.NoError(t, err)
			for _, rule := range apart {
				if !strings.HasPrefix(filepath.ToSlash(name), rule.from) ||
					strings.HasSuffix(name, "_test.go") && !rule.always {
					continue
				}
				seen[rule.from] = true
				reached := strings.HasPrefix(of+"\"", rule.to)
				assert.False(t, reached && (rule.but == "" || !strings.HasPrefix(of, rule.but)), "%s imports %s", name,
					of)
			}
		}
		return nil
	}))
	for _, rule := range apart {
		assert.True(t, seen[rule.from], "there is nothing in %s", rule.from)
	}
}

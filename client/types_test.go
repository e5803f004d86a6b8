package client

import (
	"go/ast"
	"go/parser"
	"go/token"
	"go/types"
	"maps"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/api"
)

// plainTypes are what the types of fields are in the description.
var plainTypes = map[string]string{
	"string": "string", "bool": "boolean", "float64": "number", "Number": "number", "int": "integer", "int64": "integer", "uint64": "integer", "uint32": "integer", "time.Time": "string",
	"[]byte": "string", "Numbers": "array", "Times": "array", "Flags": "array", "any": "", "json.RawMessage": "",
}

// fieldOf is a key of a struct as the source has it.
type fieldOf struct {
	kind     string // "" where anything is possible
	of       string // name of the struct that it is, or a list or map of
	optional bool
}

// structs reads the structs of this package from its source, by name, with the keys of each.
func structs(t *testing.T) map[string]map[string]fieldOf {
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	all := map[string]*ast.StructType{}
	for _, name := range files {
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			if spec, ok := n.(*ast.TypeSpec); ok {
				if one, ok := spec.Type.(*ast.StructType); ok {
					all[spec.Name.Name] = one
				}
			}
			return true
		})
	}
	out := map[string]map[string]fieldOf{}
	var fields func(of *ast.StructType) map[string]fieldOf
	fields = func(of *ast.StructType) map[string]fieldOf {
		keys := map[string]fieldOf{}
		for _, f := range of.Fields.List {
			written := types.ExprString(f.Type)
			if len(f.Names) == 0 { // embedded; all of it or nothing is there
				for key, one := range fields(all[strings.TrimPrefix(written, "*")]) {
					one.optional = one.optional || written[0] == '*'
					keys[key] = one
				}
				continue
			}
			if f.Tag == nil {
				continue
			}
			key, rest, _ := strings.Cut(reflect.StructTag(strings.Trim(f.Tag.Value, "`")).Get("json"), ",")
			if key == "" || key == "-" {
				continue
			}
			one := fieldOf{optional: strings.Contains(rest, "omit")}
			bare := strings.TrimPrefix(written, "*")
			kind, plain := plainTypes[bare]
			switch element := strings.TrimPrefix(bare, "[]"); {
			case plain:
				one.kind = kind
			case strings.HasPrefix(bare, "map["):
				one.kind, one.of = "object", bare[strings.Index(bare, "]")+1:]
			case element != bare:
				one.kind, one.of = "array", element
			case all[bare] != nil:
				one.kind, one.of = "object", bare
			}
			keys[key] = one
		}
		return keys
	}
	for name, one := range all {
		out[name] = fields(one)
	}
	return out
}

// Each form of the description that has a struct of its name here has the same keys of the same types, and always writes
// those that are required.
func TestTheTypesAreThoseThatTheInterfaceDescribes(t *testing.T) {
	description, err := openapi3.NewLoader().LoadFromData(api.OpenAPI)
	require.NoError(t, err)
	here := structs(t)
	compared := 0
	for name, ref := range description.Components.Schemas {
		have, ok := here[name]
		form := ref.Value
		if !ok || len(form.Properties) == 0 || name == "Error" { // which is one key deeper than the type
			continue
		}
		compared++
		assert.ElementsMatch(t, slices.Collect(maps.Keys(form.Properties)), slices.Collect(maps.Keys(have)),
			"keys of %s", name)
		for key, one := range have {
			described := form.Properties[key]
			if described == nil {
				continue
			}
			assert.False(t, slices.Contains(form.Required, key) && one.optional,
				"%s.%s is required, and left out here when it is empty", name, key)
			if one.kind == "" || described.Value.Type == nil {
				continue
			}
			assert.True(t, described.Value.Type.Includes(one.kind), "%s.%s: described as %v, a %s here", name, key,
				*described.Value.Type, one.kind)
			of := described
			if items := described.Value.Items; items != nil {
				of = items
			} else if more := described.Value.AdditionalProperties.Schema; more != nil {
				of = more
			}
			if base := filepath.Base(of.Ref); of.Ref != "" && here[base] != nil && here[one.of] != nil {
				assert.Equal(t, base, one.of, "%s.%s", name, key)
			}
		}
	}
	assert.Greater(t, compared, 100, "forms were compared")
}

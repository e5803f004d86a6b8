package shape

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// Note notes what the file holds that is named at a place, so that another content is told
// from the same.
func (p Place) Note(content []byte) {
	if p.file.noted == nil {
		p.file.noted = map[string]string{}
	}
	sum := sha256.Sum256(content)
	p.file.noted[p.path] = hex.EncodeToString(sum[:])
}

// Print returns a text that is another when anything of a part is another, be it in its lines, in
// those that it refers to, or in a file that was noted below it. Comments and the order of
// keys do not count.
func (p Part) Print() string { return p.file.hashOf(p.path, p.file.value(p.node, 0)) }

// Print returns the hash of the subtree at a key path, or "" if it is absent.
func (f *File) Print(keys ...string) string {
	for _, doc := range f.tree.Docs {
		of := f.value(doc.Body, 0)
		for _, key := range keys {
			all, _ := of.(map[string]any)
			of = all[key]
		}
		if of != nil {
			return f.hashOf(root+"."+strings.Join(keys, "."), of)
		}
	}
	return ""
}

func (f *File) hashOf(path string, of any) string {
	out, err := json.Marshal(of)
	if err != nil {
		return err.Error() // of what is no text; such a file is not good
	}
	sum := sha256.New()
	sum.Write(out)
	for _, at := range slices.Sorted(maps.Keys(f.noted)) {
		if strings.HasPrefix(at, path) {
			fmt.Fprintln(sum, at, f.noted[at])
		}
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// value returns the value of a node, with references resolved.
func (f *File) value(node ast.Node, depth int) any {
	if depth > deepest {
		return nil // it is reported when it is filled in
	}
	if node == nil {
		return nil
	}
	switch n := f.plain(node).(type) {
	case *ast.SequenceNode:
		out := make([]any, len(n.Values))
		for i, one := range n.Values {
			out[i] = f.value(one, depth+1)
		}
		return out
	case *ast.MappingNode, *ast.MappingValueNode:
		out := map[string]any{}
		for _, pair := range f.pairs("", n) {
			if key(pair) != "<<" {
				out[key(pair)] = f.value(pair.Value, depth+1)
				continue
			}
			if merged, ok := f.value(pair.Value, depth+1).(map[string]any); ok {
				for name, v := range merged {
					if _, own := out[name]; !own {
						out[name] = v
					}
				}
			}
		}
		return out
	case nil:
		return nil
	default:
		return strings.TrimSpace(n.String())
	}
}

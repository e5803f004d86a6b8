package shape

import (
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"nexocumula/internal/plain"
)

// Read fills a struct, which into points to, from the text of a file. The error is that
// of a text that is no YAML.
func Read(name string, text []byte, into any) (*File, Place, error) {
	tree, err := parser.ParseBytes(text, 0)
	if err != nil {
		return nil, Place{}, fromYAML(name, text, err)
	}
	f := &File{name: name, tree: tree, anchors: map[string]ast.Node{}}
	for _, doc := range tree.Docs {
		if doc.Body != nil {
			ast.Walk(anchors{f}, doc.Body)
			f.fill(root, doc.Body, reflect.ValueOf(into).Elem())
		}
	}
	return f, Place{f, root}, nil
}

// anchors notes those that there are.
type anchors struct{ *File }

func (a anchors) Visit(node ast.Node) ast.Visitor {
	if one, ok := node.(*ast.AnchorNode); ok {
		a.anchors[one.Name.String()] = one.Value
	}
	return a
}

// plain returns a node behind its anchor, alias or tag.
func (f *File) plain(node ast.Node) ast.Node {
	for range 10 {
		switch n := node.(type) {
		case *ast.AnchorNode:
			node = n.Value
		case *ast.AliasNode:
			node = f.anchors[n.Value.String()]
		case *ast.TagNode:
			node = n.Value
		default:
			return node
		}
	}
	return node
}

func (f *File) fill(path string, node ast.Node, into reflect.Value) {
	node = f.plain(node)
	if strings.Count(path, ".")+strings.Count(path, "[") > deepest {
		f.reportAt(node, path, "this is nested too deep")
		return
	}
	if _, null := node.(*ast.NullNode); null || node == nil {
		return // as if the key were not there
	}
	switch into.Kind() {
	case reflect.Pointer:
		value := reflect.New(into.Type().Elem())
		f.fill(path, node, value.Elem())
		into.Set(value)
	case reflect.Struct:
		if part, ok := into.Addr().Interface().(*Part); ok {
			*part = Part{Place{f, path}, node}
			return
		}
		f.mapping(path, node, into)
	case reflect.Slice:
		seq, ok := node.(*ast.SequenceNode)
		if !ok {
			f.reportAt(node, path, "a list belongs here: begin each of its lines with - ")
			return
		}
		for i, one := range seq.Values {
			value := reflect.New(into.Type().Elem()).Elem()
			f.fill(fmt.Sprintf("%s[%d]", path, i), one, value)
			into.Set(reflect.Append(into, value))
		}
	case reflect.Map:
		into.Set(reflect.MakeMap(into.Type()))
		for _, pair := range f.pairs(path, node) {
			value := reflect.New(into.Type().Elem()).Elem()
			f.fill(path+"."+key(pair), pair.Value, value)
			into.SetMapIndex(reflect.ValueOf(key(pair)), value)
		}
	default:
		f.scalar(path, node, into)
	}
}

func key(pair *ast.MappingValueNode) string {
	return strings.Trim(pair.Key.String(), `"'`)
}

// pairs returns the keys and values of a mapping.
func (f *File) pairs(path string, node ast.Node) []*ast.MappingValueNode {
	switch n := node.(type) {
	case *ast.MappingNode:
		return n.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{n}
	}
	f.reportAt(node, path, "keys with values belong here, such as name: value")
	return nil
}

func (f *File) mapping(path string, node ast.Node, into reflect.Value) {
	fields := map[string]reflect.Value{}
	fieldsOf(into, fields)
	f.assign(path, node, fields, 0)
}

// deepest is how many mappings may be merged into one another, lest one be merged into itself.
const deepest = 20

func (f *File) assign(path string, node ast.Node, fields map[string]reflect.Value, depth int) {
	if depth > deepest {
		f.reportAt(node, path, "mappings are merged into one another %d times over", deepest)
		return
	}
	for _, pair := range f.pairs(path, node) {
		name := key(pair)
		if name == "<<" { // a merge key: another mapping's keys
			f.assign(path, f.plain(pair.Value), fields, depth+1)
			continue
		}
		field, ok := fields[name]
		if !ok {
			f.reportAt(pair.Key, path, "key %q is not known here%s", name, near(name, fields))
			continue
		}
		f.fill(path+"."+name, pair.Value, field)
	}
}

// fieldsOf names the fields of a struct as the file does.
func fieldsOf(of reflect.Value, into map[string]reflect.Value) {
	for i := range of.NumField() {
		name, options, _ := strings.Cut(of.Type().Field(i).Tag.Get("yaml"), ",")
		if options == "inline" {
			fieldsOf(of.Field(i), into)
		} else {
			into[name] = of.Field(i)
		}
	}
}

// otherNames lists what people write for a key.
var otherNames = map[string][]string{
	"host": {"address"}, "port": {"address"}, "url": {"address"}, "server": {"address"}, "broker": {"address"}, "ip": {"address"}, "username": {"user"},
	"interval": {"every"}, "period": {"every"}, "poll": {"every"}, "slave": {"unit"}, "slave_id": {"unit"}, "unit_id": {"unit"}, "register": {"address"},
	"min": {"low"}, "max": {"high"}, "format": {"payload"}, "factor": {"scale"}, "multiplier": {"scale"}, "name": {"series"}, "path": {"at"}, "delimiter": {"separator"}, "endian": {"byte_order", "word_order"},
}

// near names the known key that is spelled most like one that is not.
func near(name string, fields map[string]reflect.Value) string {
	if _, there := fields["secret_file"]; there && slices.Contains([]string{"password", "passwd", "secret", "token", "pass", "key"},
		name) {
		return "; secrets do not stand in the file: write secret_file: with the name of a file that holds it"
	}
	if _, err := strconv.Atoi(name); err == nil {
		return "; decimals stand behind a point, such as 0." + name
	}
	for _, other := range otherNames[name] {
		if _, there := fields[other]; there {
			return "; did you mean " + other + "?"
		}
	}
	known := slices.Sorted(maps.Keys(fields))
	if best := plain.Nearest(name, known); best != "" {
		return "; did you mean " + best + "?"
	}
	return "; known are " + strings.Join(known, ", ")
}

var leadingZero = regexp.MustCompile(`^0+([1-9][0-9]*|0)$`)

var wanted = map[reflect.Kind]string{
	reflect.String: "text", reflect.Int: "a whole number", reflect.Float64: "a number", reflect.Bool: "true or false",
}

func (f *File) scalar(path string, node ast.Node, into reflect.Value) {
	if _, is := node.(ast.ScalarNode); !is {
		f.reportAt(node, path, "%s belongs here", wanted[into.Kind()])
		return
	}
	if text := node.String(); leadingZero.MatchString(text) &&
		(into.Kind() == reflect.Int || into.Kind() == reflect.Float64) {
		f.reportAt(node, path, "%s begins with a zero, which some read as octal; write %s", text,
			leadingZero.FindStringSubmatch(text)[1])
		return
	}
	value := reflect.New(into.Type())
	if err := yaml.NodeToValue(node, value.Interface()); err != nil {
		f.reportAt(node, path, "%s is not %s", strings.TrimSpace(node.String()), wanted[into.Kind()])
		return
	}
	into.Set(value.Elem())
}

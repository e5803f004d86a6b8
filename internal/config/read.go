package config

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"
	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
)

// reader fills the shape of the file from its tree. It goes on after a mistake, so that
// one run names them all: what cannot be read is reported and left out.
type reader struct {
	*checker
	anchors map[string]ast.Node
}

func (c *checker) read(into *file) {
	r := reader{checker: c, anchors: map[string]ast.Node{}}
	for _, doc := range c.tree.Docs {
		if doc.Body != nil {
			ast.Walk(r, doc.Body)
			r.fill("$", doc.Body, reflect.ValueOf(into).Elem())
		}
	}
}

// Visit notes the anchors there are.
func (r reader) Visit(node ast.Node) ast.Visitor {
	if a, ok := node.(*ast.AnchorNode); ok {
		r.anchors[a.Name.String()] = a.Value
	}
	return r
}

// plain is a node behind its anchor, alias or tag.
func (r reader) plain(node ast.Node) ast.Node {
	for range 10 {
		switch n := node.(type) {
		case *ast.AnchorNode:
			node = n.Value
		case *ast.AliasNode:
			node = r.anchors[n.Value.String()]
		case *ast.TagNode:
			node = n.Value
		default:
			return node
		}
	}
	return node
}

func (r reader) fill(path string, node ast.Node, into reflect.Value) {
	node = r.plain(node)
	if _, null := node.(*ast.NullNode); null || node == nil {
		return // as if the key were not there
	}
	switch into.Kind() {
	case reflect.Pointer:
		value := reflect.New(into.Type().Elem())
		r.fill(path, node, value.Elem())
		into.Set(value)
	case reflect.Struct:
		r.mapping(path, node, into)
	case reflect.Slice:
		seq, ok := node.(*ast.SequenceNode)
		if !ok {
			r.reportAt(node, path, "a list belongs here: begin each of its lines with - ")
			return
		}
		for i, one := range seq.Values {
			value := reflect.New(into.Type().Elem()).Elem()
			r.fill(fmt.Sprintf("%s[%d]", path, i), one, value)
			into.Set(reflect.Append(into, value))
		}
	case reflect.Map:
		into.Set(reflect.MakeMap(into.Type()))
		for _, pair := range r.pairs(path, node) {
			value := reflect.New(into.Type().Elem()).Elem()
			r.fill(path+"."+key(pair), pair.Value, value)
			into.SetMapIndex(reflect.ValueOf(key(pair)), value)
		}
	default:
		r.scalar(path, node, into)
	}
}

func key(pair *ast.MappingValueNode) string {
	return strings.Trim(pair.Key.String(), `"'`)
}

// pairs are the keys and values of a mapping.
func (r reader) pairs(path string, node ast.Node) []*ast.MappingValueNode {
	switch n := node.(type) {
	case *ast.MappingNode:
		return n.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{n}
	}
	r.reportAt(node, path, "keys with values belong here, such as name: value")
	return nil
}

func (r reader) mapping(path string, node ast.Node, into reflect.Value) {
	fields := map[string]reflect.Value{}
	fieldsOf(into, fields)
	for _, pair := range r.pairs(path, node) {
		name := key(pair)
		if name == "<<" { // a merge key: another mapping's keys
			r.mapping(path, r.plain(pair.Value), into)
			continue
		}
		field, ok := fields[name]
		if !ok {
			r.reportAt(pair.Key, path, "key %q is not known here%s", name, near(name, fields))
			continue
		}
		r.fill(path+"."+name, pair.Value, field)
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

// near names the known key that is spelled most like one that is not.
func near(name string, fields map[string]reflect.Value) string {
	best, distance := "", 3
	for known := range fields {
		if d := levenshtein.ComputeDistance(name, known); d < distance || d == distance && known < best {
			best, distance = known, d
		}
	}
	if best != "" {
		return "; did you mean " + best + "?"
	}
	known := make([]string, 0, len(fields))
	for one := range fields {
		known = append(known, one)
	}
	slices.Sort(known)
	return "; known are " + strings.Join(known, ", ")
}

var wanted = map[reflect.Kind]string{
	reflect.String: "text", reflect.Int: "a whole number", reflect.Float64: "a number", reflect.Bool: "true or false",
}

func (r reader) scalar(path string, node ast.Node, into reflect.Value) {
	if _, is := node.(ast.ScalarNode); !is {
		r.reportAt(node, path, "%s belongs here", wanted[into.Kind()])
		return
	}
	value := reflect.New(into.Type())
	if err := yaml.NodeToValue(node, value.Interface()); err != nil {
		r.reportAt(node, path, "%s is not %s", strings.TrimSpace(node.String()), wanted[into.Kind()])
		return
	}
	into.Set(value.Elem())
}

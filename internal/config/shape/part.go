package shape

import (
	"fmt"
	"reflect"

	"github.com/goccy/go-yaml/ast"
)

// Part is a part of a file whose keys depend on what stands there. It is read as such, and
// filled in by whoever knows them.
type Part struct {
	Place
	node ast.Node
}

// Text returns the value at a key, if it is there; "" when that is no single value.
func (p Part) Text(key string) (text string, there bool) {
	return p.file.text(p.node, key, 0)
}

// Fill fills structs whose fields are all keys of this part, and what keys points to.
func (p Part) Fill(keys map[string]any, structs ...any) {
	fields := map[string]reflect.Value{}
	for _, one := range structs {
		fieldsOf(reflect.ValueOf(one).Elem(), fields)
	}
	for name, one := range keys {
		fields[name] = reflect.ValueOf(one).Elem()
	}
	p.file.assign(p.path, p.node, fields, 0)
}

// text returns the value at a key of a mapping, its own or merged in.
func (f *File) text(node ast.Node, wanted string, depth int) (text string, there bool) {
	node = f.plain(node)
	switch node.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
	default:
		return "", false // it is reported when it is filled in
	}
	for _, pair := range f.pairs("", node) {
		switch key(pair) {
		case "<<":
			if depth > deepest {
				return "", false
			}
			if text, there = f.text(pair.Value, wanted, depth+1); there {
				return text, true
			}
		case wanted:
			if scalar, is := f.plain(pair.Value).(ast.ScalarNode); is {
				return fmt.Sprint(scalar.GetValue()), true
			}
			return "", true
		}
	}
	return "", false
}

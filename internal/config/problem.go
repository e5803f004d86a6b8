package config

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
)

// Problem is one mistake in a file.
type Problem struct {
	File         string
	Line, Column int
	Text         string
}

// Error is file:line:column: text.
func (p Problem) Error() string {
	return fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.Text)
}

// Problems are all mistakes of a file, by line and column.
type Problems []Problem

// inOrder is the problems by their places. Of what stands at the same place the first that
// was found is enough: a value that cannot be read is missed as well.
func (p Problems) inOrder() Problems {
	slices.SortStableFunc(p, func(a, b Problem) int { return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column)) })
	return p
}

// Error is a line for each.
func (p Problems) Error() string {
	lines := make([]string, len(p))
	for i, one := range p {
		lines[i] = one.Error()
	}
	return strings.Join(lines, "\n")
}

// checker collects problems by their place in the tree, and finds its line.
type checker struct {
	file     string
	tree     *ast.File
	problems Problems
}

// report notes a problem at a YAML path such as $.gateway.sources[0].name. When the
// key is not there, the problem is reported where it should be.
func (c *checker) report(path, format string, args ...any) {
	p := Problem{File: c.file, Line: 1, Column: 1, Text: strings.TrimPrefix(path, "$.") + ": " + fmt.Sprintf(format, args...)}
	for at := path; at != "$" && at != ""; at = at[:max(0, strings.LastIndexAny(at, ".["))] {
		if line, column, ok := c.position(at); ok {
			p.Line, p.Column = line, column
			break
		}
	}
	c.problems = append(c.problems, p)
}

// reportAt notes a problem of a node.
func (c *checker) reportAt(node ast.Node, path, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if path != "$" {
		text = strings.TrimPrefix(path, "$.") + ": " + text
	}
	p := Problem{File: c.file, Line: 1, Column: 1, Text: text}
	if token := node.GetToken(); token != nil {
		p.Line, p.Column = token.Position.Line, token.Position.Column
	}
	c.problems = append(c.problems, p)
}

func (c *checker) position(path string) (line, column int, ok bool) {
	where, err := yaml.PathString(path)
	if err != nil {
		return 0, 0, false
	}
	node, err := where.FilterFile(c.tree)
	if err != nil || node == nil || node.GetToken() == nil {
		return 0, 0, false
	}
	at := node.GetToken().Position
	if m, isMap := node.(*ast.MappingNode); isMap && len(m.Values) > 0 {
		at = m.Values[0].Key.GetToken().Position
	}
	return at.Line, at.Column, true
}

// fromYAML turns an error of the YAML package into a problem.
func fromYAML(file string, err error) error {
	var at yaml.Error
	if errors.As(err, &at) && at.GetToken() != nil {
		return Problems{{File: file, Line: at.GetToken().Position.Line, Column: at.GetToken().Position.Column, Text: at.GetMessage()}}
	}
	return Problems{{File: file, Line: 1, Column: 1, Text: err.Error()}}
}

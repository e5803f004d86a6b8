package config

import (
	"errors"
	"fmt"
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

// Problems are all mistakes of a file, in the order in which they were found.
type Problems []Problem

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
		text := at.GetMessage()
		if key, found := strings.CutPrefix(text, "unknown field "); found {
			text = "key " + key + " is not known here"
		}
		return Problems{{File: file, Line: at.GetToken().Position.Line, Column: at.GetToken().Position.Column, Text: text}}
	}
	return Problems{{File: file, Line: 1, Column: 1, Text: err.Error()}}
}

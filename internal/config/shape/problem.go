package shape

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

func (p Problems) inOrder() Problems {
	slices.SortStableFunc(p, func(a, b Problem) int {
		return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
	return p
}

// Error returns a line for each.
func (p Problems) Error() string {
	lines := make([]string, len(p))
	for i, one := range p {
		lines[i] = one.Error()
	}
	return strings.Join(lines, "\n")
}

// File is a file that has been read, and what is wrong with it.
type File struct {
	name     string
	tree     *ast.File
	anchors  map[string]ast.Node
	problems Problems
	advice   Problems          // what is no mistake, and should be known
	included []*File           // by what stands in this one
	noted    map[string]string // by path: what files hold that stand there
}

// Err returns all that is wrong, or nil.
func (f *File) Err() error {
	if all := f.all(); len(all) > 0 {
		return all
	}
	return nil
}

func (f *File) all() Problems {
	out := f.problems.inOrder()
	for _, one := range f.included {
		out = append(out, one.all()...)
	}
	return out
}

// Advice returns a hint for the author of the file about something that is no mistake.
func (f *File) Advice() Problems { return f.advice.inOrder() }

// Include reads another file, whose mistakes count among those of this one.
func (p Place) Include(name string, text []byte, into any) (Place, bool) {
	f, at, err := Read(name, text, into)
	if err != nil {
		f = &File{name: name}
		if !errors.As(err, &f.problems) {
			f.problems = Problems{{File: name, Line: 1, Column: 1, Text: err.Error()}}
		}
	}
	p.file.included = append(p.file.included, f)
	return at, err == nil
}

// reportAt notes a problem of a node.
func (f *File) reportAt(node ast.Node, path, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if path != root {
		text = strings.TrimPrefix(path, root+".") + ": " + text
	}
	p := Problem{File: f.name, Line: 1, Column: 1, Text: text}
	if token := node.GetToken(); token != nil {
		p.Line, p.Column = token.Position.Line, token.Position.Column
	}
	f.problems = append(f.problems, p)
}

func (f *File) position(path string) (line, column int, ok bool) {
	where, err := yaml.PathString(path)
	if err != nil {
		return 0, 0, false
	}
	node, err := where.FilterFile(f.tree)
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
func fromYAML(file string, text []byte, err error) error {
	var at yaml.Error
	if errors.As(err, &at) && at.GetToken() != nil {
		position := at.GetToken().Position
		return Problems{broken(file, text, Problem{
			File:   file,
			Line:   position.Line,
			Column: position.Column,
			Text:   at.GetMessage(),
		})}
	}
	return Problems{{File: file, Line: 1, Column: 1, Text: err.Error()}}
}

// Package edit appends lines to a configuration that people wrote, and leaves all others as they
// are: comments, order and blank lines.
package edit

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/pmezard/go-difflib/difflib"
)

// Lists holds the lines to append to each list, by its path in the file.
type Lists map[string]string

// Append puts lines, each item of which begins with "- ", at the end of lists such as
// gateway.sources. A list that is not there yet is made below the key it belongs to.
func Append(text string, lists Lists, order ...string) (string, error) {
	before := text
	for _, path := range order {
		if lists[path] == "" {
			continue
		}
		_, err := Items(lists[path])
		if err == nil {
			text, err = appendTo(text, path, lists[path])
		}
		if err != nil {
			return "", fmt.Errorf("%s: %w", path, err)
		}
	}
	return text, onlyGrew(before, text, lists)
}

func appendTo(text, path, items string) (string, error) {
	tree, err := parser.ParseBytes([]byte(text), 0)
	if err != nil {
		return "", err
	}
	lines := strings.SplitAfter(text, "\n")
	if n := len(lines); lines[n-1] == "" {
		lines = lines[:n-1]
	} else {
		lines[n-1] += "\n"
	}
	if node, err := find(tree, path); err == nil && node != nil {
		list, ok := node.(*ast.SequenceNode)
		if _, null := node.(*ast.NullNode); !null {
			if !ok || list.IsFlowStyle {
				return "", fmt.Errorf("is not written as lines that begin with - ; add these by hand")
			}
			return insert(lines, lastLine(list), list.Start.Position.Column-1, items), nil
		}
	}
	above, key, _ := cut(path)
	node, err := find(tree, above)
	if err != nil || node == nil {
		return "", fmt.Errorf("there is no %s: to put it into", above)
	}
	of, ok := node.(*ast.MappingNode)
	if !ok || of.IsFlowStyle || len(of.Values) == 0 {
		return "", fmt.Errorf("%s: is not written as lines; add these by hand", above)
	}
	column := of.Values[0].Key.GetToken().Position.Column - 1
	for _, pair := range of.Values {
		if pair.Key.String() == key {
			return insert(lines, pair.Key.GetToken().Position.Line, column+2, items), nil // it is there, and empty
		}
	}
	return insert(lines, lastLine(of), column, key+":\n"+indent(items, 2)), nil
}

func cut(path string) (above, key string, ok bool) {
	i := strings.LastIndexByte(path, '.')
	return path[:max(i, 0)], path[i+1:], i >= 0
}

func find(tree *ast.File, path string) (ast.Node, error) {
	at, err := yaml.PathString("$." + path)
	if err != nil {
		return nil, err
	}
	return at.FilterFile(tree)
}

// insert puts items, indented, behind a line, which is counted from 1.
func insert(lines []string, line, column int, items string) string {
	return strings.Join(lines[:line], "") + indent(items, column) + strings.Join(lines[line:], "")
}

func indent(items string, by int) string {
	var out strings.Builder
	for line := range strings.Lines(strings.TrimRight(items, "\n") + "\n") {
		if strings.TrimSpace(line) != "" {
			out.WriteString(strings.Repeat(" ", by))
		}
		out.WriteString(line)
	}
	return out.String()
}

// last is the line of the last token of a node.
type last struct{ line int }

func (l *last) Visit(node ast.Node) ast.Visitor {
	if token := node.GetToken(); token != nil {
		line := token.Position.Line
		if _, block := node.(*ast.LiteralNode); block {
			line += strings.Count(strings.TrimRight(node.String(), "\n"), "\n")
		}
		l.line = max(l.line, line)
	}
	switch n := node.(type) {
	case *ast.SequenceNode:
		if n.End != nil {
			l.line = max(l.line, n.End.Position.Line)
		}
	case *ast.MappingNode:
		if n.End != nil {
			l.line = max(l.line, n.End.Position.Line)
		}
	}
	return l
}

func lastLine(node ast.Node) int {
	l := &last{}
	ast.Walk(l, node)
	return l.line
}

// Difference returns the changes between two texts as a unified diff.
func Difference(name, before, after string) (string, error) {
	return difflib.GetUnifiedDiffString(difflib.UnifiedDiff{
		A: slices.Collect(strings.Lines(before)), B: slices.Collect(strings.Lines(after)), FromFile: name, ToFile: name + " (new)", Context: 2,
	})
}

// Write puts another text into a file, in one step, with the rights it had.
func Write(file, text string) error {
	about, err := os.Stat(file)
	if err != nil {
		return err
	}
	to, err := os.CreateTemp(filepath.Dir(file), ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(to.Name()) // of no effect once it is renamed
	if _, err = to.WriteString(text); err == nil {
		err = to.Chmod(about.Mode().Perm())
	}
	if err == nil {
		err = to.Sync()
	}
	if closed := to.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", file, err)
	}
	return os.Rename(to.Name(), file)
}

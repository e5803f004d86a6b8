package edit

import (
	"fmt"
	"reflect"
	"strings"
	"unicode"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/parser"
)

// Items reads lines that are to be appended to a list, by themselves. They have to be a list and nothing else.
func Items(lines string) ([]any, error) {
	for i, line := range strings.Split(lines, "\n") {
		for _, r := range line {
			if breaks(r) {
				return nil, fmt.Errorf("line %d has the character %U, which cannot be in a configuration; break lines with a line feed, and leave other control characters out",
					i+1, r)
			}
		}
	}
	tree, err := parser.ParseBytes([]byte(lines), 0)
	if err != nil {
		return nil, err
	}
	if len(tree.Docs) != 1 {
		return nil, fmt.Errorf("the lines are %d documents; one list is wanted, each item of which begins with - ",
			len(tree.Docs))
	}
	var all []any
	if err := yaml.Unmarshal([]byte(lines), &all); err != nil {
		return nil, fmt.Errorf("the lines are not one list, each item of which begins with - : %w", err)
	}
	return all, nil
}

// breaks reports whether a character is a control character, or one that YAML takes for the end of a line.
func breaks(r rune) bool {
	return r != '\t' && unicode.IsControl(r) || r == '\u2028' || r == '\u2029' || r == '\ufeff' ||
		r == unicode.ReplacementChar
}

// onlyGrew compares what a configuration says before and after lines were appended: only the lists that they were
// appended to may be longer, by these items, and nothing else may differ.
func onlyGrew(before, after string, lists Lists) error {
	var was, is map[string]any
	if err := yaml.Unmarshal([]byte(before), &was); err != nil {
		return err
	}
	if err := yaml.Unmarshal([]byte(after), &is); err != nil {
		return err
	}
	for path, lines := range lists {
		if lines == "" {
			continue
		}
		items, err := Items(lines)
		if err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		above, key, _ := cut(path)
		had, has := mapping(was, above), mapping(is, above)
		all, ok := has[key].([]any)
		old, _ := had[key].([]any)
		if had == nil || !ok || len(all) != len(old)+len(items) || !reflect.DeepEqual(all[len(old):], items) {
			return fmt.Errorf("%s: the list would not be what it was and these items after it; add them by hand", path)
		}
		if all = all[:len(old)]; len(old) == 0 {
			delete(had, key)
			delete(has, key)
		} else {
			has[key] = all
		}
	}
	if !reflect.DeepEqual(was, is) {
		return fmt.Errorf("the lines would change more than the lists that they are appended to; add them by hand")
	}
	return nil
}

func mapping(tree map[string]any, path string) map[string]any {
	for _, key := range strings.Split(path, ".") {
		if key == "" {
			continue
		}
		tree, _ = tree[key].(map[string]any)
	}
	return tree
}

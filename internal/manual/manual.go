// Package manual shows the pages of docs/ where there is no network: in the console and on a terminal.
package manual

import (
	"bytes"
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/extension"
	extast "github.com/yuin/goldmark/extension/ast"
	"github.com/yuin/goldmark/parser"
	"github.com/yuin/goldmark/text"
	"github.com/yuin/goldmark/util"

	"nexocumula/docs"
)

// Page is one page of the manual.
type Page struct {
	Name     string // such as operating
	Title    string
	Headings []Heading
	Text     string // Markdown, as it stands in docs/
	HTML     string
}

// Heading is a part of a page that can be linked to.
type Heading struct{ ID, Text string }

// first is the page that leads to the others.
const first = "README"

// Pages returns all pages: the one that leads to the others, and these by name.
var Pages = sync.OnceValues(func() ([]Page, error) {
	entries, err := docs.Files.ReadDir(".")
	if err != nil {
		return nil, err
	}
	var out []Page
	for _, entry := range entries {
		text, err := docs.Files.ReadFile(entry.Name())
		if err != nil {
			return nil, err
		}
		page, err := render(strings.TrimSuffix(entry.Name(), ".md"), comment.ReplaceAll(text, nil))
		if err != nil {
			return nil, err
		}
		out = append(out, page)
	}
	rank := func(p Page) int { return map[bool]int{true: 0, false: 1}[p.Name == first] }
	slices.SortStableFunc(out, func(a, b Page) int { return cmp.Compare(rank(a), rank(b)) })
	return out, nil
})

// Find returns a page by its name, or by a beginning that only one has.
func Find(name string) (Page, error) {
	all, err := Pages()
	if err != nil {
		return Page{}, err
	}
	var near []Page
	for _, p := range all {
		if p.Name == name {
			return p, nil
		}
		if strings.HasPrefix(p.Name, name) {
			near = append(near, p)
		}
	}
	if len(near) == 1 {
		return near[0], nil
	}
	names := make([]string, len(all))
	for i, p := range all {
		names[i] = p.Name
	}
	return Page{}, fmt.Errorf("the manual has no page %q; there are %s", name, strings.Join(names, ", "))
}

// comment is what a page has for those who write it.
var comment = regexp.MustCompile(`<!--.*?-->\n?`)

var markdown = goldmark.New(goldmark.WithExtensions(extension.GFM), goldmark.WithParserOptions(
	parser.WithAutoHeadingID(), parser.WithASTTransformers(util.Prioritized(links{}, 100))))

func render(name string, raw []byte) (Page, error) {
	p := Page{Name: name, Title: name, Text: string(raw)}
	tree := markdown.Parser().Parse(text.NewReader(raw))
	err := ast.Walk(tree, func(n ast.Node, entering bool) (ast.WalkStatus, error) {
		heading, ok := n.(*ast.Heading)
		if !ok || !entering {
			return ast.WalkContinue, nil
		}
		says := plainText(heading, raw)
		if heading.Level == 1 {
			p.Title = says
			return ast.WalkContinue, nil
		}
		id, _ := heading.AttributeString("id")
		idText, _ := id.([]byte)
		p.Headings = append(p.Headings, Heading{string(idText), says})
		return ast.WalkContinue, nil
	})
	if err != nil {
		return p, err
	}
	var out bytes.Buffer
	if err := markdown.Renderer().Render(&out, raw, tree); err != nil {
		return p, fmt.Errorf("page %s of the manual: %w", name, err)
	}
	p.HTML = out.String()
	return p, nil
}

// plainText is the text of a heading, without its marks.
func plainText(n ast.Node, raw []byte) string {
	var out strings.Builder
	_ = ast.Walk(n, func(n ast.Node, entering bool) (ast.WalkStatus, error) {
		if t, ok := n.(*ast.Text); ok && entering {
			out.Write(t.Segment.Value(raw))
		}
		return ast.WalkContinue, nil
	})
	return out.String()
}

// links has links to other pages lead to where the console shows them, and those to other files of the source nowhere:
// they are not here.
type links struct{}

var page = regexp.MustCompile(`^([a-zA-Z-]+)\.md(#.*)?$`)

// nameRow lets the row of a table be linked to by the word that it explains, unless another has that name.
func nameRow(row *extast.TableRow, raw []byte, taken map[string]bool) {
	code, ok := row.FirstChild().FirstChild().(*ast.CodeSpan)
	if !ok {
		return
	}
	if name := plainText(code, raw); word.MatchString(name) && !taken[name] {
		row.SetAttributeString("id", []byte(name))
		taken[name] = true
	}
}

var word = regexp.MustCompile(`^[a-z_]+$`)

func (links) Transform(tree *ast.Document, read text.Reader, _ parser.Context) {
	raw, taken := read.Source(), map[string]bool{}
	_ = ast.Walk(tree, func(n ast.Node, entering bool) (ast.WalkStatus, error) {
		if heading, ok := n.(*ast.Heading); ok && entering {
			if id, ok := heading.AttributeString("id"); ok {
				taken[string(id.([]byte))] = true
			}
		}
		if row, ok := n.(*extast.TableRow); ok && entering {
			nameRow(row, raw, taken)
		}
		link, ok := n.(*ast.Link)
		if !ok || !entering {
			return ast.WalkContinue, nil
		}
		to := string(link.Destination)
		if m := page.FindStringSubmatch(to); m != nil {
			link.Destination = []byte("/docs/" + m[1] + m[2])
			link.SetAttributeString("data-inner", []byte(""))
		} else if to == "../api/openapi.yaml" {
			link.Destination = []byte("/api/openapi.yaml")
		}
		return ast.WalkContinue, nil
	})
}

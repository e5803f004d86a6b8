package event

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestALineForEachEvent(t *testing.T) {
	var out bytes.Buffer
	log := NewLog(&out, Options{Priority: true}).With("uplink", "head-office")
	Refill.To(log, "why", "a copy")
	log.Debug("not wanted")
	assert.Regexp(t, `^<4>time=\S+ level=WARN msg="the central may not .*" uplink=head-office event=uplink.refill why="a copy"\n$`, out.String())
	out.Reset()
	log = NewLog(&out, Options{JSON: true, Level: slog.LevelDebug})
	Started.To(log, "version", "v1")
	log.WithGroup("x").Debug("wanted", "y", 1)
	assert.Regexp(t, `^\{"time":"[^"]+","level":"INFO","msg":"the service began","event":"service.started","version":"v1"\}\n.*"x":\{"y":1\}`, out.String())
	out.Reset()
	OfLibrary(NewLog(&out, Options{})).Error("it is not said")
	Printer{NewLog(&out, Options{})}.Println("nor this")
	assert.Empty(t, out.String())
	OfLibrary(NewLog(&out, Options{Level: slog.LevelDebug})).With("a", 1).Error("it is a detail")
	Printer{NewLog(&out, Options{Level: slog.LevelDebug})}.Printf("and %d", 2)
	assert.Regexp(t, `level=DEBUG msg="it is a detail" a=1\n.*level=DEBUG msg="and 2"\n$`, out.String())
	for level, want := range map[slog.Level]int{slog.LevelError: 3, slog.LevelWarn: 4, slog.LevelInfo: 6, slog.LevelDebug: 7} {
		assert.Equal(t, want, priorityOf(level))
	}
}

func TestWhatComesAgainIsCounted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var out bytes.Buffer
		log := NewLog(&out, Options{})
		other := log.With("source", "probes")
		for i := range 100 {
			StoreUnwritten.To(log, "error", "no space", "in", time.Duration(i))
			Audited.To(log, "id", i)
		}
		StoreUnwritten.To(other, "error", "no space")
		StoreUnwritten.To(log, "error", "no permission")
		assert.Equal(t, 3, strings.Count(out.String(), "store.unwritten"))
		assert.Equal(t, 100, strings.Count(out.String(), "event=audit "))
		time.Sleep(repeatsFor + time.Second)
		synctest.Wait()
		assert.Equal(t, 4, strings.Count(out.String(), "store.unwritten"))
		assert.Contains(t, out.String(), "times=99")
		StoreUnwritten.To(log, "error", "no space")
		assert.Equal(t, 5, strings.Count(out.String(), "store.unwritten"), "it is news again")
		StoreUnwritten.To(log, "error", "no space")
		Flush(log)
		Flush(log)
		assert.Equal(t, 6, strings.Count(out.String(), "store.unwritten"), "what is counted when a program ends is written")
		assert.Contains(t, out.String(), "times=1\n")
		time.Sleep(repeatsFor + time.Second)
	})
}

// The service logs events only, with the fields of the table.
func TestTheTableHasWhatIsLogged(t *testing.T) {
	text, err := os.ReadFile("table.go")
	require.NoError(t, err)
	byVariable := map[string]Event{}
	variable := regexp.MustCompile(`(?m)^\t(\w+)\s+= Event\{"([^"]+)"`)
	names := map[string]Event{}
	for _, e := range All {
		names[e.Name] = e
	}
	for _, m := range variable.FindAllStringSubmatch(string(text), -1) {
		byVariable[m[1]] = names[m[2]]
	}
	require.Len(t, names, len(byVariable))
	assert.True(t, slices.IsSortedFunc(All, func(a, b Event) int { return strings.Compare(a.Name, b.Name) }))
	used := map[string]map[string]bool{}
	require.NoError(t, filepath.WalkDir("..", func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
			strings.HasPrefix(path, "../event/") || strings.HasPrefix(path, "../demo/") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			method, ok := call.Fun.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			if slices.Contains([]string{"Info", "Warn", "Error"}, method.Sel.Name) {
				by := ""
				switch x := method.X.(type) {
				case *ast.SelectorExpr:
					by = x.Sel.Name
				case *ast.Ident:
					by = x.Name
				}
				assert.False(t, strings.EqualFold(by, "log") || by == "slog", "%s logs something that is no event", path)
			}
			if method.Sel.Name != "To" || len(call.Args) == 0 {
				return true
			}
			of, ok := method.X.(*ast.SelectorExpr)
			name := ""
			if ok && fmt.Sprint(of.X) == "event" {
				name = of.Sel.Name
			} else if id, ok := method.X.(*ast.Ident); ok && id.Name == "of" {
				name = "Audited"
			} else {
				return true
			}
			if used[name] == nil {
				used[name] = map[string]bool{}
			}
			for i := 1; i < len(call.Args); i += 2 {
				key, err := strconv.Unquote(call.Args[i].(*ast.BasicLit).Value)
				assert.NoError(t, err)
				assert.Contains(t, byVariable[name].Fields, key, "%s of %s", path, name)
				used[name][key] = true
			}
			return true
		})
		return nil
	}))
	for name, e := range byVariable {
		if name == "Refused" {
			continue // it is logged as Audited is
		}
		require.NotNil(t, used[name], "nobody logs %s", name)
		for _, field := range e.Fields {
			assert.True(t, used[name][field], "nobody says %s of %s", field, name)
		}
	}
}

// The manual has the same table. UPDATE_DOCS=1 writes it.
func TestTheManualHasTheTable(t *testing.T) {
	const file, begin, end = "../../docs/operating.md", "<!-- begin: events, written by UPDATE_DOCS=1 go test ./internal/event -->\n", "<!-- end: events -->"
	var table strings.Builder
	table.WriteString("\n| event | level | | fields |\n|---|---|---|---|\n")
	for _, e := range All {
		fields := strings.Join(e.Fields, "`, `")
		if fields != "" {
			fields = "`" + fields + "`"
		}
		fmt.Fprintf(&table, "| `%s` | %s | %s | %s |\n", e.Name, strings.ToLower(e.Level.String()), e.Says, fields)
	}
	table.WriteString("\n")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	before, after, ok := strings.Cut(string(text), begin)
	require.True(t, ok)
	was, rest, ok := strings.Cut(after, end)
	require.True(t, ok)
	if os.Getenv("UPDATE_DOCS") != "" {
		require.NoError(t, os.WriteFile(file, []byte(before+begin+table.String()+end+rest), 0o644))
		return
	}
	assert.Equal(t, table.String(), was)
}

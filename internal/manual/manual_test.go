package manual

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every page is there, and every link leads to a page and a heading that there is.
func TestTheManualIsWhole(t *testing.T) {
	all, err := Pages()
	require.NoError(t, err)
	files, err := os.ReadDir("../../docs")
	require.NoError(t, err)
	pages := 0
	for _, f := range files {
		if strings.HasSuffix(f.Name(), ".md") {
			pages++
		}
	}
	assert.Len(t, all, pages)
	assert.Equal(t, first, all[0].Name)
	known := map[string]bool{}
	for _, p := range all {
		known["/docs/"+p.Name] = true
		for _, h := range p.Headings {
			assert.NotEmpty(t, h.Text, p.Name)
			known["/docs/"+p.Name+"#"+h.ID] = true
		}
		assert.NotEqual(t, p.Name, p.Title)
		assert.False(t, strings.Contains(p.HTML, "raw HTML omitted"), p.Name)
	}
	for _, p := range all {
		for _, m := range regexp.MustCompile(`<a href="([^"]+)"`).FindAllStringSubmatch(p.HTML, -1) {
			to := m[1]
			if strings.HasPrefix(to, "#") {
				to = "/docs/" + p.Name + to
			}
			if strings.HasPrefix(to, "/docs/") {
				assert.True(t, known[to], "%s leads to %s", p.Name, to)
			} else {
				assert.Regexp(t, `^(https?:|/api/|mailto:)`, to, "%s leads out of the manual", p.Name)
			}
		}
	}
}

func TestAPageIsFoundByItsBeginning(t *testing.T) {
	p, err := Find("oper")
	require.NoError(t, err)
	assert.Equal(t, "operating", p.Name)
	assert.Contains(t, p.HTML, `<h2 id="ports">Ports</h2>`)
	_, err = Find("c")
	assert.ErrorContains(t, err, "there are README, architecture")
}

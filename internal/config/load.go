package config

import (
	"fmt"
	"io"
	"os"

	"github.com/goccy/go-yaml/parser"
)

const maxFile = 4 << 20

// Load reads and checks the file at path. Mistakes come back as Problems.
func Load(path string) (Settings, error) {
	f, err := os.Open(path)
	if err != nil {
		return Settings{}, fmt.Errorf("reading the configuration: %w", err)
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, maxFile+1))
	if err != nil {
		return Settings{}, fmt.Errorf("reading the configuration: %w", err)
	}
	if len(text) > maxFile {
		return Settings{}, fmt.Errorf("reading the configuration: %s is larger than %d bytes", path, maxFile)
	}
	return Parse(path, text)
}

// Parse checks the text of a file; name is what problems are reported with. Files
// that hold secrets are read.
func Parse(name string, text []byte) (Settings, error) {
	tree, err := parser.ParseBytes(text, 0)
	if err != nil {
		return Settings{}, fromYAML(name, err)
	}
	var raw file
	c := &checker{file: name, tree: tree}
	c.read(&raw)
	settings := c.settings(raw)
	if len(c.problems) > 0 {
		return Settings{}, c.problems.inOrder()
	}
	return settings, nil
}

package config

import (
	"fmt"
	"io"
	"os"

	"nexocumula/internal/config/shape"
)

const maxFile = 4 << 20

// Load reads and checks the file at path. Mistakes come back as shape.Problems. kinds are
// the sources that a gateway may have.
func Load(path string, kinds []SourceKind) (Settings, error) {
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
	return Parse(path, text, kinds)
}

// Parse checks the text of a file; name is what problems are reported with. Files
// that it names are read.
func Parse(name string, text []byte, kinds []SourceKind) (Settings, error) {
	var raw file
	f, at, err := shape.Read(name, text, &raw)
	if err != nil {
		return Settings{}, err
	}
	settings := raw.check(at, kinds)
	if err := f.Err(); err != nil {
		return Settings{}, err
	}
	return settings, nil
}

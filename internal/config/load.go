package config

import (
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"strings"

	"nexocumula/internal/config/shape"
)

const maxFile = 4 << 20

// parts are the parts of the file that a running service compares with the file before.
var parts = []struct {
	key     string
	running bool // a running service can take a change over
}{
	{"data", false}, {"listen", false}, {"tls", false}, {"open", false}, {"access", false}, {"away_for", false}, {"zone", false}, {"log", false}, {"backup", false}, {"give_up_unsent_after", false},
	{"central.name", false}, {"central.accept", false}, {"central.max_series", false}, {"central.max_series_of_gateway", false},
	{"gateway.site", false},
	{"keep", true}, {"room", true}, {"queries", true}, {"field", true}, {"gateway.pace", true}, {"gateway.series", true},
}

// Changed returns the parts that are another than in settings before: those that a running service
// can take over, and those that only count after a restart. Sources are told apart one by one,
// by their prints.
func (s *Settings) Changed(before Settings) (now, restart []string) {
	for _, of := range parts {
		switch {
		case s.Prints[of.key] == before.Prints[of.key]:
		case of.running:
			now = append(now, of.key)
		default:
			restart = append(restart, of.key)
		}
	}
	if (s.Gateway == nil) != (before.Gateway == nil) {
		restart = append(restart, "gateway")
	}
	if (s.Central == nil) != (before.Central == nil) {
		restart = append(restart, "central")
	}
	return now, restart
}

// Load reads and checks the file at path. Mistakes come back as shape.Problems. kinds are
// the sources that a gateway may have.
func Load(path string, kinds Kinds) (Settings, error) {
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
	settings, err := Parse(path, text, kinds)
	settings.Path, settings.Sum = path, fmt.Sprintf("%x", sha256.Sum256(text))
	return settings, err
}

// Parse checks the text of a file; name is what problems are reported with. Files
// that it names are read.
func Parse(name string, text []byte, kinds Kinds) (Settings, error) {
	var raw file
	f, at, err := shape.Read(name, text, &raw)
	if err != nil {
		return Settings{}, err
	}
	settings := raw.check(at, kinds)
	if err := f.Err(); err != nil {
		return Settings{}, err
	}
	settings.Advice = f.Advice()
	settings.Prints = map[string]string{}
	for _, of := range parts {
		settings.Prints[of.key] = f.Print(strings.Split(of.key, ".")...)
	}
	return settings, nil
}

package demo

import (
	"crypto/rand"
	"embed"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"text/template"

	"nexocumula/internal/config"
	"nexocumula/internal/kinds"
)

//go:embed configs
var configFiles embed.FS

// places holds the addresses and folders of one start.
type places struct {
	Data, Listen, Secret, Central string
	DevicesSecret, Authority      string
	Devices                       string // folder of their descriptions
	Device, Broker, Listener      string
	Raceways                      []int
}

// configure writes the configuration of a service into the demo's folder, where
// people can read it, and loads it from there.
func configure(dir, name string, p places) (config.Settings, error) {
	p.Data = filepath.Join(dir, name)
	p.Secret = filepath.Join(dir, "secret")
	p.Devices = filepath.Join(dir, "devices")
	p.DevicesSecret = filepath.Join(dir, devicesSecret)
	t, err := template.ParseFS(configFiles, "configs/"+name+".yaml")
	if err != nil {
		return config.Settings{}, err
	}
	var text strings.Builder
	if err := t.Execute(&text, p); err != nil {
		return config.Settings{}, err
	}
	path := filepath.Join(dir, name+".yaml")
	if err := os.WriteFile(path, []byte(text.String()), 0o640); err != nil {
		return config.Settings{}, fmt.Errorf("writing the demo's configuration: %w", err)
	}
	return config.Load(path, kinds.All)
}

// devicesSecret is the file of what brokers and scripts know each other by.
const devicesSecret = "devices-secret"

// marker is the file that says a folder is the demo's own, to be emptied at a start.
const marker = "demo.json"

// prepare makes an empty folder for the demo, and refuses one that holds anything
// but an earlier demo.
func prepare(dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil && !os.IsNotExist(err) {
		return fmt.Errorf("preparing the demo's folder: %w", err)
	}
	if _, err := os.Stat(filepath.Join(dir, marker)); len(entries) > 0 && err != nil {
		return fmt.Errorf("the folder %s holds something that is not a demo; name another with --dir", dir)
	}
	if err := os.RemoveAll(dir); err != nil {
		return fmt.Errorf("emptying the demo's folder: %w", err)
	}
	if err := os.MkdirAll(dir, 0o750); err != nil {
		return fmt.Errorf("preparing the demo's folder: %w", err)
	}
	if err := os.WriteFile(filepath.Join(dir, marker), []byte("{}\n"), 0o640); err != nil {
		return fmt.Errorf("preparing the demo's folder: %w", err)
	}
	if err := os.Mkdir(filepath.Join(dir, "certificates"), 0o750); err != nil {
		return fmt.Errorf("preparing the demo's folder: %w", err)
	}
	described, err := fs.Sub(configFiles, "configs/devices")
	if err == nil {
		err = os.CopyFS(filepath.Join(dir, "devices"), described)
	}
	if err != nil {
		return fmt.Errorf("writing the descriptions of the demo's devices: %w", err)
	}
	for _, file := range []string{"secret", devicesSecret} {
		if err := os.WriteFile(filepath.Join(dir, file), []byte(rand.Text()+"\n"), 0o600); err != nil {
			return fmt.Errorf("writing the demo's secrets: %w", err)
		}
	}
	return nil
}

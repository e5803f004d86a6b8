package fieldwork

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nexocumula/internal/config"
)

// Keys of sources and rules whose value is the name of a file, and those that read a secret from elsewhere.
var (
	fileKeys   = []string{"secret_file", "ca", "cert", "key", "client_ca", "accounts", "description", "lookup"}
	secretKeys = []string{"secret_env", "secret_credential"}
)

// confine refuses lines that name files outside of the folder for them, or secrets that are not in files. It reads
// no file, and says of none whether it is there that is outside of the folder.
func confine(v any, allowed config.Field, data string) error {
	switch v := v.(type) {
	case []any:
		for _, one := range v {
			if err := confine(one, allowed, data); err != nil {
				return err
			}
		}
	case map[string]any:
		for key, below := range v {
			text, isText := below.(string)
			switch {
			case isText && text != "" && slices.Contains(secretKeys, key):
				return wrong("%s: lines that arrive over HTTP may not name it; use secret_file, or write the line into the file by hand",
					key)
			case isText && text != "" && slices.Contains(fileKeys, key):
				if err := inside(key, text, allowed.Files, data); err != nil {
					return err
				}
			default:
				if err := confine(below, allowed, data); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// inside refuses a file that is not in a folder, wherever links lead.
func inside(key, file, folder, data string) error {
	if folder == "" {
		return wrong("%s: lines that arrive over HTTP may not name files here; field: files: in the configuration says in which folder they may, or write the line into the file by hand",
			key)
	}
	refused := wrong("%s: %s is not in %s, where files have to be that lines which arrive over HTTP name (field: files:)",
		key, file, folder)
	root, err := real(folder)
	if err != nil {
		return fmt.Errorf("field: files: %w", err)
	}
	at, err := filepath.Abs(file)
	if err != nil || !below(at, folder) && !below(at, root) {
		return refused
	}
	at, err = filepath.EvalSymlinks(at)
	if err != nil {
		return wrong("%s: there is no file %s in %s", key, filepath.Base(file), folder)
	}
	store, err := real(data)
	if err != nil || !below(at, root) || below(at, store) {
		return refused
	}
	return nil
}

func real(path string) (string, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	resolved, err := filepath.EvalSymlinks(path)
	if os.IsNotExist(err) {
		return path, nil
	}
	return resolved, err
}

func below(path, folder string) bool {
	folder, err := filepath.Abs(folder)
	return err == nil && strings.HasPrefix(filepath.Clean(path), folder+"/")
}

// NamesFile reports whether a key of the configuration names a file or another place of a secret.
func NamesFile(key string) bool {
	return slices.Contains(fileKeys, key) || slices.Contains(secretKeys, key)
}

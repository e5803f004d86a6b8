package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"nexocumula/internal/secret"
)

// kept is the stored login at a service.
type kept struct {
	Token       string `json:"token,omitempty"`
	Fingerprint string `json:"fingerprint,omitempty"` // of the certificate that a person said yes to
}

// loginsFile returns the file with the logins, in a folder of the user's own.
func loginsFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no folder to keep a login in: %w", err)
	}
	return filepath.Join(dir, "nexocumula", "logins.json"), nil
}

// logins reads the stored logins by address.
func logins() (map[string]kept, error) {
	out := map[string]kept{}
	file, err := loginsFile()
	if err != nil {
		return out, nil // without a home nothing was kept
	}
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err == nil {
		if err = secret.OnlyOwner(file); err == nil {
			err = json.Unmarshal(text, &out)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("reading the logins in %s: %w", file, err)
	}
	return out, nil
}

// keep changes what is kept of a service.
func keep(address string, change func(*kept)) (file string, err error) {
	all, err := logins()
	if err != nil {
		return "", err
	}
	if file, err = loginsFile(); err != nil {
		return "", err
	}
	one := all[address]
	change(&one)
	all[address] = one
	if one == (kept{}) {
		delete(all, address)
	}
	text, err := json.MarshalIndent(all, "", "  ")
	if err == nil {
		err = secret.WriteFile(file, append(text, '\n'))
	}
	if err != nil {
		return "", fmt.Errorf("keeping the login in %s: %w", file, err)
	}
	return file, nil
}

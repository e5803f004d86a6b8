package access

import (
	"fmt"
	"os"
	"path/filepath"
)

// Recover makes a code for an administrator in the book of a service that may be running. It
// is for whoever has the right to its files, and is noted in the audit.
func Recover(dir string, options Options) (code string, err error) {
	if _, err := os.Stat(filepath.Join(dir, File)); err != nil {
		return "", fmt.Errorf("there are no accounts yet: %w; start the service, which prints a code", err)
	}
	b, err := Open(dir, options)
	if err != nil {
		return "", err
	}
	code, err = b.AdministratorCode(By{Who: userName(), Kind: "machine"})
	if closed := b.Close(); err == nil {
		err = closed
	}
	return code, err
}

// userName returns the operating system's user, if known.
func userName() string {
	for _, name := range []string{"SUDO_USER", "USER", "LOGNAME"} {
		if text := os.Getenv(name); text != "" {
			return text
		}
	}
	return "machine"
}

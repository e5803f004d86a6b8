package backup

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"filippo.io/age"

	"nexocumula/internal/secret"
)

// secretsFile has the secrets of a service, as a tar that is encrypted with age.
const secretsFile = "secrets.age"

// secretPlaces are where a service has secrets in its folder.
var secretPlaces = []string{"*.key", "*.pem", "uplinks/*.json"}

// lockUp encrypts the secrets in a folder.
func lockUp(data string, recipients []age.Recipient) ([]byte, error) {
	var out bytes.Buffer
	locked, err := age.Encrypt(&out, recipients...)
	if err != nil {
		return nil, fmt.Errorf("encrypting the secrets: %w", err)
	}
	all := tar.NewWriter(locked)
	for _, place := range secretPlaces {
		paths, err := filepath.Glob(filepath.Join(data, place))
		if err != nil {
			return nil, err
		}
		for _, path := range paths {
			if err := addSecret(all, data, path); err != nil {
				return nil, err
			}
		}
	}
	if err := errors.Join(all.Close(), locked.Close()); err != nil {
		return nil, fmt.Errorf("encrypting the secrets: %w", err)
	}
	return out.Bytes(), nil
}

func addSecret(to *tar.Writer, data, path string) error {
	name, err := filepath.Rel(data, path)
	if err != nil {
		return err
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("copying %s: %w", name, err)
	}
	if err := to.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: int64(len(text))}); err != nil {
		return err
	}
	_, err = to.Write(text)
	return err
}

// unlock puts secrets back into a folder.
func unlock(locked []byte, into string, identities []age.Identity) error {
	plain, err := age.Decrypt(bytes.NewReader(locked), identities...)
	if err != nil {
		return fmt.Errorf("the secrets cannot be decrypted: %w", err)
	}
	all := tar.NewReader(plain)
	for {
		head, err := all.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("reading the secrets: %w", err)
		}
		if !filepath.IsLocal(head.Name) {
			return fmt.Errorf("reading the secrets: %q would leave the folder", head.Name)
		}
		text, err := io.ReadAll(all)
		if err != nil {
			return fmt.Errorf("reading the secrets: %w", err)
		}
		path := filepath.Join(into, head.Name)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return err
		}
		if err := secret.WriteFile(path, text); err != nil {
			return fmt.Errorf("writing %s: %w", head.Name, err)
		}
	}
}

// Recipients reads for whom secrets are encrypted: public keys of age, such as age1….
func Recipients(keys []string) ([]age.Recipient, error) {
	if len(keys) == 0 {
		return nil, nil
	}
	out, err := age.ParseRecipients(strings.NewReader(strings.Join(keys, "\n")))
	if err != nil {
		return nil, fmt.Errorf("a recipient cannot be read: %w; use a public key of age, age1…", err)
	}
	return out, nil
}

// Identities reads the file of a private key, with which secrets are decrypted.
func Identities(path string) ([]age.Identity, error) {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no file %s with a private key of age", path)
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	out, err := age.ParseIdentities(f)
	if err != nil {
		return nil, fmt.Errorf("the private key in %s cannot be read: %w; use a file that age-keygen wrote", path, err)
	}
	return out, nil
}

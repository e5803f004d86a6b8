package access

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"nexocumula/internal/secret"
)

// KeyCredential is the name under which systemd may hand the key over, so that it stands in
// no file of the service's.
const KeyCredential = "access-key"

// key encrypts the few secrets that have to be read again. It is not kept with them.
type key struct{ gcm cipher.AEAD }

// errNoKey is of a key that could not be read at the start, which was reported then.
var errNoKey = errors.New("the key of the accounts cannot be read; see /api/v1/health")

const keyBytes = 32

// openKey reads the key, and makes one where there is none.
func openKey(path string) (key, error) {
	if dir := os.Getenv("CREDENTIALS_DIRECTORY"); dir != "" {
		if text, err := os.ReadFile(filepath.Join(dir, KeyCredential)); err == nil {
			return newKey(string(text))
		}
	}
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		fresh := make([]byte, keyBytes)
		_, _ = rand.Read(fresh) // never fails
		text = []byte(hex.EncodeToString(fresh) + "\n")
		if err := secret.WriteFile(path, text); err != nil {
			return key{}, fmt.Errorf("writing the key of the accounts: %w", err)
		}
	} else if err != nil {
		return key{}, fmt.Errorf("reading the key of the accounts: %w", err)
	}
	if err := secret.OnlyOwner(path); err != nil {
		return key{}, err
	}
	k, err := newKey(string(text))
	if err != nil {
		return k, fmt.Errorf("the key of the accounts, %s: %w", path, err)
	}
	return k, nil
}

func newKey(text string) (key, error) {
	raw, err := hex.DecodeString(strings.TrimSpace(text))
	if err != nil || len(raw) != keyBytes {
		return key{}, fmt.Errorf("%d hexadecimal digits are wanted; restore it from a copy, or move it away, which takes the authenticators of all accounts away",
			2*keyBytes)
	}
	block, err := aes.NewCipher(raw)
	if err != nil {
		return key{}, err
	}
	gcm, err := cipher.NewGCM(block)
	return key{gcm}, err
}

// seal encrypts what belongs to a name; opened under another it is refused.
func (k key) seal(text []byte, of string) ([]byte, error) {
	if k.gcm == nil {
		return nil, errNoKey
	}
	nonce := make([]byte, k.gcm.NonceSize())
	_, _ = rand.Read(nonce)
	return k.gcm.Seal(nonce, nonce, text, []byte(of)), nil
}

func (k key) open(sealed []byte, of string) ([]byte, error) {
	if k.gcm == nil {
		return nil, errNoKey
	}
	n := k.gcm.NonceSize()
	if len(sealed) < n {
		return nil, errors.New("what is encrypted was cut short")
	}
	text, err := k.gcm.Open(nil, sealed[:n], sealed[n:], []byte(of))
	if err != nil {
		return nil, errors.New("it was encrypted with another key; was the key's file replaced?")
	}
	return text, nil
}

// hashOf returns the hash that is stored of a credential. A credential is random and long, so
// that a fast hash will do.
func hashOf(bearer string) string {
	sum := sha256.Sum256([]byte(bearer))
	return hex.EncodeToString(sum[:])
}

package mqtt

import (
	"bufio"
	"bytes"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/bcrypt"

	"nexocumula/internal/config/shape"
)

// accounts are names and hashes of passwords from a file, a line each: name:hash. It is
// read again when it changes.
type accounts struct {
	file string

	mu       sync.Mutex
	looked   time.Time
	modified time.Time
	hashes   map[string]string
	trouble  error

	// A hash is made to be slow; devices come back often. What was right once is remembered,
	// by a key of this process.
	key   []byte
	right map[string][]byte
	turns chan struct{} // one is computed at a time: each takes memory, and a flood of them must leave the other processors alone
}

func openAccounts(file string) (*accounts, error) {
	a := &accounts{file: file, key: make([]byte, 32), right: map[string][]byte{}, turns: make(chan struct{}, 1)}
	_, _ = rand.Read(a.key) // never fails
	return a, a.read()
}

func (a *accounts) read() error {
	about, err := os.Stat(a.file)
	if err == nil {
		err = shape.OnlyOwner(a.file)
	}
	if err != nil {
		return err
	}
	text, err := os.ReadFile(a.file)
	if err != nil {
		return err
	}
	hashes := map[string]string{}
	lines := bufio.NewScanner(bytes.NewReader(text))
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		name, hash, ok := strings.Cut(line, ":")
		if !ok || name == "" {
			return fmt.Errorf("%s:%d: write name:hash, as nexocumula password makes it", a.file, n)
		}
		if _, err := parseHash(hash); err != nil {
			return fmt.Errorf("%s:%d: account %s: %w", a.file, n, name, err)
		}
		if _, twice := hashes[name]; twice {
			return fmt.Errorf("%s:%d: account %s is there twice", a.file, n, name)
		}
		hashes[name] = hash
	}
	if err := lines.Err(); err != nil {
		return err
	}
	a.hashes, a.modified, a.right = hashes, about.ModTime(), map[string][]byte{}
	return nil
}

// hash is that of a name. It reads the file again when it has changed.
func (a *accounts) hash(name string) (hash string, ok bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if time.Since(a.looked) >= time.Second {
		a.looked = time.Now()
		if about, err := os.Stat(a.file); err != nil || !about.ModTime().Equal(a.modified) {
			a.trouble = a.read() // what was read before counts until it can be
		}
	}
	hash, ok = a.hashes[name]
	return hash, ok
}

// nobody is a hash that no password has, so that a name that is not there takes as long.
const nobody = "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"

// let reports whether a password is that of an account.
func (a *accounts) let(name string, password []byte) bool {
	hash, known := a.hash(name)
	mark := hmac.New(sha256.New, a.key)
	fmt.Fprintf(mark, "%d:%s:%s", len(name), name, password)
	sum := mark.Sum(nil)
	a.mu.Lock()
	before := known && hmac.Equal(a.right[name], sum)
	a.mu.Unlock()
	if before {
		return true
	}
	if !known {
		hash = nobody
	}
	a.turns <- struct{}{}
	right := matches(hash, password)
	<-a.turns
	if right = right && known; right {
		a.mu.Lock()
		if a.hashes[name] == hash {
			a.right[name] = sum
		}
		a.mu.Unlock()
	}
	return right
}

// problem is why the file as it is now cannot be used.
func (a *accounts) problem() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.trouble
}

// Source of the parameters: RFC 9106 allows any; these are the second of OWASP's for argon2id.
const (
	argonTime, argonMemory, argonLanes = 2, 19 * 1024, 1 // passes, KiB
	mostArgonMemory                    = 256 * 1024
)

// HashPassword is the hash of a password as an account's line has it: argon2id, in the PHC
// string format.
func HashPassword(password []byte) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt) // never fails
	sum := argon2.IDKey(password, salt, argonTime, argonMemory, argonLanes, 32)
	text := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonLanes, text(salt), text(sum))
}

type argonHash struct {
	memory, time uint32
	lanes        uint8
	salt, sum    []byte
}

// parseHash reads a hash; nil is one of bcrypt.
func parseHash(hash string) (*argonHash, error) {
	if strings.HasPrefix(hash, "$2") {
		_, err := bcrypt.Cost([]byte(hash))
		return nil, err
	}
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return nil, errors.New("the hash is neither of argon2id ($argon2id$…) nor of bcrypt ($2…)")
	}
	var h argonHash
	var version int
	_, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &h.memory, &h.time, &h.lanes)
	if err == nil {
		h.salt, err = base64.RawStdEncoding.DecodeString(parts[4])
	}
	if err == nil {
		h.sum, err = base64.RawStdEncoding.DecodeString(parts[5])
	}
	if err != nil || version != argon2.Version || h.memory < 8 || h.memory > mostArgonMemory || h.time < 1 || h.time > 100 || h.lanes < 1 || len(h.salt) < 8 || len(h.sum) < 16 {
		return nil, errors.New("the argon2id hash is cut off, or has parameters that are not possible")
	}
	return &h, nil
}

func matches(hash string, password []byte) bool {
	h, err := parseHash(hash)
	if err != nil {
		return false
	}
	if h == nil {
		return bcrypt.CompareHashAndPassword([]byte(hash), password) == nil
	}
	sum := argon2.IDKey(password, h.salt, h.time, h.memory, h.lanes, uint32(len(h.sum)))
	return subtle.ConstantTimeCompare(sum, h.sum) == 1
}
